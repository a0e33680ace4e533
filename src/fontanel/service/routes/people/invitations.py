"""Invitations to a team: one-time links that people open themselves.

Nobody sets a password for somebody else, and nobody joins a team without accepting. A new person is
created on acceptance; somebody with an account accepts while signed in. The inviter sees the same
in both cases.
"""

from __future__ import annotations

from datetime import timedelta

from fastapi import Request, Response
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from fontanel.engine.notices.mail import mails, send_mail
from fontanel.engine.notices.notify import notify_team
from fontanel.errors import MailFailed, NotFound
from fontanel.records.ids import hash_password, hash_secret, new_id, new_secret
from fontanel.records.tables import Invitation, Member, Person, Role, Team, now
from fontanel.schemas import (
    InvitationAccept,
    InvitationCreated,
    InvitationDetails,
    InvitationIn,
    InvitationOpen,
    InvitationOut,
    Page,
    SessionOut,
)
from fontanel.service.auth.access import (
    Access,
    Owner,
    OwnerWrite,
    RuntimeDep,
    check_same_site,
    credentials_of,
    find_caller,
)
from fontanel.service.auth.sign_in import open_session
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/invitations", "members")
#: Routes that a link opens.
links = api_router("/invitations", "members")

MAX_OPEN = 200


@router.get("", summary="List open invitations")
def list_invitations(access: Owner) -> Page[InvitationOut]:
    query = (
        access.scope.select(Invitation)
        .where(Invitation.expires_at > now())
        .order_by(Invitation.created_at)
    )
    return Page(items=[InvitationOut.model_validate(row) for row in access.session.scalars(query)])


@router.post("", status_code=201, summary="Invite somebody to a team")
def invite(body: InvitationIn, access: Owner) -> InvitationCreated:
    """Return a link that works once, for some days, and is shown this once.

    Where the operator has set a mail server, the link is sent to the address instead. An open
    invitation of the same address is replaced.
    """
    settings = access.runtime.settings
    secret = new_secret("fi")
    with access.writing() as writing:
        row = _add_invitation(writing, body, secret)
        out = InvitationOut.model_validate(row).model_dump()
    # After the number sign, so that it is not sent to servers or logged.
    url = f"{settings.origin}/invitation#{secret}"
    if not mails(settings):
        return InvitationCreated(**out, url=url, secret=secret)
    text = (
        f"{row.invited_by} invites you to the team {access.team.name} as {row.role.value}.\n\n"
        f"Open this link to join. It works once, until {row.expires_at:%d %B %Y}:\n\n{url}\n"
    )
    try:
        send_mail(settings, row.email, f"Invitation to {access.team.name}", text)
    except MailFailed as error:
        with access.writing() as writing:
            writing.session.execute(delete(Invitation).where(Invitation.id == row.id))
        raise ApiError(
            "mail-failed", str(error), advice="Check the address, or ask the operator."
        ) from error
    return InvitationCreated(**out)


def _add_invitation(access: Access, body: InvitationIn, secret: str) -> Invitation:
    session = access.session
    member = access.scope.select(Member).join(Person).where(Person.email == body.email)
    if session.scalar(member):
        raise ApiError("conflict", f"{body.email} is a member already.", field="email")
    session.execute(
        delete(Invitation).where(
            Invitation.team_id == access.team.id,
            (Invitation.email == body.email) | (Invitation.expires_at <= now()),
        )
    )
    count = select(func.count()).where(Invitation.team_id == access.team.id)
    if (session.scalar(count) or 0) >= MAX_OPEN:
        raise ApiError(
            "conflict", f"The team has {MAX_OPEN} open invitations. Withdraw some first."
        )
    row = Invitation(
        id=new_id("inv"),
        team_id=access.team.id,
        email=body.email,
        name=body.name,
        role=Role(body.role),
        secret_hash=hash_secret(secret),
        invited_by=access.caller.name,
        expires_at=now() + timedelta(days=body.expires_in_days),
    )
    session.add(row)
    session.flush()
    return row


@router.delete("/{invitation}", status_code=204, summary="Withdraw an invitation")
def withdraw(invitation: str, access: OwnerWrite) -> None:
    """Its link stops working at once. By id or e-mail."""
    named = (Invitation.id == invitation) | (Invitation.email == invitation.lower())
    row = access.session.scalar(access.scope.select(Invitation).where(named))
    if row is None:
        raise NotFound("invitation", invitation)
    access.session.delete(row)


@links.post("/open", summary="Read an invitation")
def open_invitation(
    body: InvitationOpen, request: Request, runtime: RuntimeDep
) -> InvitationDetails:
    """For whoever has the link; this does not accept it."""
    check_same_site(request)
    with runtime.records.reading() as session:
        row, team = _found(session, body.secret)
        return InvitationDetails(
            team=team.name,
            role=row.role.value,
            email=row.email,
            name=row.name,
            invited_by=row.invited_by,
            expires_at=row.expires_at,
        )


@links.post("/accept", summary="Accept an invitation")
def accept(
    body: InvitationAccept, request: Request, response: Response, runtime: RuntimeDep
) -> SessionOut:
    """Signed in as the invited address, or with a name and password for a new account."""
    check_same_site(request)
    new_hash = hash_password(body.password) if body.password is not None else None
    with runtime.records.writing() as session:
        row, team = _found(session, body.secret)
        person = _signed_in(session, request, runtime)
        if person is None:
            person = _new_person(session, row, body.name or row.name, new_hash)
        elif person.email != row.email:
            raise ApiError(
                "not-allowed",
                f"The invitation is for {row.email}; you are signed in as {person.email}.",
                advice="Sign out first, or ask for an invitation of your own address.",
            )
        if (
            session.scalar(
                select(Member.id).where(Member.team_id == team.id, Member.person_id == person.id)
            )
            is None
        ):
            others = (
                session.scalar(select(Member.id).where(Member.team_id == team.id).limit(1))
                is not None
            )
            session.add(
                Member(id=new_id("member"), team_id=team.id, person_id=person.id, role=row.role)
            )
            if others:
                message = (
                    f"{person.name} ({person.email}) joined as {row.role.value}, invited by"
                    f" {row.invited_by}."
                )
                notify_team(
                    session,
                    team.id,
                    "member.joined",
                    message,
                    {"email": person.email, "role": row.role.value},
                )
        session.delete(row)
    return open_session(runtime, request, response, person)


def _found(session: Session, secret: str) -> tuple[Invitation, Team]:
    row = session.scalar(select(Invitation).where(Invitation.secret_hash == hash_secret(secret)))
    if row is None or row.expires_at <= now():
        raise ApiError(
            "not-found",
            "This invitation was used, withdrawn, or has expired.",
            advice="Ask whoever invited you for a new one.",
        )
    return row, session.get_one(Team, row.team_id)


def _signed_in(session: Session, request: Request, runtime: RuntimeDep) -> Person | None:
    try:
        return find_caller(session, request, runtime, credentials_of(request)).person
    except ApiError:
        return None


def _new_person(session: Session, row: Invitation, name: str, password_hash: str | None) -> Person:
    if session.scalar(select(Person.id).where(Person.email == row.email)) is not None:
        raise ApiError(
            "not-signed-in",
            f"There is an account for {row.email} already.",
            advice="Sign in with it, then open the link again.",
        )
    if password_hash is None:
        raise ApiError("invalid", "Choose a password, or sign in first.", field="password")
    person = Person(id=new_id("person"), email=row.email, name=name, password_hash=password_hash)
    session.add(person)
    session.flush()
    return person
