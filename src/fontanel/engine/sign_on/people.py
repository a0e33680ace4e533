"""People who sign in with a provider: found or created, with the roles of their groups."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import structlog
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.sign_on.provider import Identity
from fontanel.errors import FontanelError, Refused
from fontanel.records.ids import new_id
from fontanel.records.tables import Invitation, Member, Person, Role, Team, now

log = structlog.get_logger()

_OPERATOR = "operator"
_RANK = {Role.READER: 0, Role.EDITOR: 1, Role.OWNER: 2}


class NoAccess(FontanelError):
    """The provider knows the person, but nothing here is for them."""


@dataclass(frozen=True, slots=True)
class Rule:
    """What people of a group get: a role in a team, or to be an operator (no team)."""

    group: str
    team: str | None
    role: Role = Role.READER


def parse_rules(rules: Mapping[str, Sequence[str]]) -> list[Rule]:
    """Return the rules of a setting: `{"GROUP": ["TEAM:ROLE", "operator"]}`.

    Raises:
        Refused: one is malformed.
    """
    parsed = []
    for group, targets in rules.items():
        for target in targets:
            team, _, role = target.rpartition(":")
            if target == _OPERATOR:
                parsed.append(Rule(group, None))
            elif team and role in list(Role):
                parsed.append(Rule(group, team, Role(role)))
            else:
                raise Refused(
                    "FONTANEL_OIDC_RULES",
                    f"{target[:80]!r} is not a rule. Write TEAM:reader, TEAM:editor, TEAM:owner or"
                    " operator.",
                )
    return parsed


def person_of(
    session: Session, identity: Identity, rules: Sequence[Rule], *, create: bool
) -> Person:
    """Return the person who signed in, with the roles of their groups, within the transaction.

    A person is known by the provider's subject. Somebody who was here before is recognised by the
    e-mail address, if the provider has verified it.

    Args:
        session: A unit of work.
        identity: Who signed in.
        rules: What groups get.
        create: Whether people who are not known are created.

    Raises:
        NoAccess: the person is not known and may not be created, or has nothing here.
    """
    person = session.scalar(select(Person).where(Person.subject == identity.subject))
    if person is None:
        person = _recognised(session, identity)
    matching = [rule for rule in rules if rule.group in identity.groups]
    if person is None:
        invited = session.scalar(
            select(Invitation.id).where(
                Invitation.email == identity.email, Invitation.expires_at > now()
            )
        )
        if not create or not (matching or (invited and identity.email_verified)):
            raise NoAccess(
                f"You are signed in as {identity.email or identity.name}, but none of your groups"
                " has access. Ask the operator of this service, or an owner of your team."
            )
        person = _created(session, identity)
    elif identity.name:
        person.name = identity.name
    _apply(session, person, matching)
    return person


def _recognised(session: Session, identity: Identity) -> Person | None:
    if not identity.email:
        raise NoAccess("The provider gives no e-mail address. The operator asks it for one.")
    person = session.scalar(select(Person).where(Person.email == identity.email))
    if person is None:
        return None
    if person.subject is not None or not identity.email_verified:
        raise NoAccess(
            f"There is another account for {identity.email}, and the provider does not confirm that"
            " the address is yours. Ask the operator."
        )
    person.subject = identity.subject
    return person


def _created(session: Session, identity: Identity) -> Person:
    person = Person(
        id=new_id("person"),
        email=identity.email,
        name=identity.name or identity.email,
        password_hash="",
        subject=identity.subject,
    )
    session.add(person)
    session.flush()
    return person


def _apply(session: Session, person: Person, rules: Sequence[Rule]) -> None:
    """Give a person what the rules of their groups give, and take what earlier ones gave."""
    operator = any(rule.team is None for rule in rules)
    if operator and not person.operator:
        person.operator = person.operator_by_rule = True
    elif not operator and person.operator_by_rule:
        person.operator = person.operator_by_rule = False
    roles = _roles_of(session, rules)
    members = session.scalars(select(Member).where(Member.person_id == person.id)).all()
    for member in members:
        role = roles.pop(member.team_id, None)
        if member.by_rule and role is None:
            session.delete(member)
        elif member.by_rule and role is not None:
            member.role = role
        # A membership that an owner gave stays as the owner set it.
    for team_id, role in roles.items():
        session.add(
            Member(
                id=new_id("member"),
                team_id=team_id,
                person_id=person.id,
                role=role,
                by_rule=True,
            )
        )
    session.flush()


def _roles_of(session: Session, rules: Sequence[Rule]) -> dict[str, Role]:
    """Return the highest role that rules give, by the team's id."""
    roles: dict[str, Role] = {}
    for rule in rules:
        if rule.team is None:
            continue
        team_id = session.scalar(
            select(Team.id).where((Team.id == rule.team) | (Team.slug == rule.team))
        )
        if team_id is None:
            log.warning("a rule names a team that does not exist", team=rule.team)
            continue
        before = roles.get(team_id)
        if before is None or _RANK[rule.role] > _RANK[before]:
            roles[team_id] = rule.role
    return roles
