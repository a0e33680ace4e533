"""Teams, their members and their keys."""

from __future__ import annotations

from datetime import timedelta
from zoneinfo import available_timezones

from fastapi import Request, Response
from sqlalchemy import delete, func, select

from fontanel.engine.notices.notify import notify_team
from fontanel.engine.sync.limits import check_grants
from fontanel.engine.sync.planning import plan_again
from fontanel.errors import NotFound, Refused
from fontanel.records.ids import hash_secret, new_id, new_secret, slug_of
from fontanel.records.tables import Key, Member, Person, Role, Team, now
from fontanel.schemas import (
    GrantsIn,
    KeyCreated,
    KeyIn,
    KeyOut,
    MemberChange,
    MemberOut,
    Page,
    TeamChange,
    TeamIn,
    TeamOut,
)
from fontanel.service.auth.access import (
    Access,
    CallerDep,
    Operator,
    Owner,
    OwnerWrite,
    Reader,
    RuntimeDep,
    check_version,
)
from fontanel.service.idempotency import Idempotency
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router()

#: Days that an operator's key for a team without membership is valid.
_OPERATOR_KEY_DAYS = 7


def _tag(response: Response, version: int) -> None:
    response.headers["ETag"] = f'"{version}"'


@router.get("/teams", tags=["teams"], summary="List your teams")
def list_teams(caller: CallerDep, runtime: RuntimeDep) -> Page[TeamOut]:
    """A member sees their teams, an operator all teams, a key its one team."""
    with runtime.records.reading() as session:
        query = select(Team).order_by(Team.name)
        if caller.key is not None:
            query = query.where(Team.id == caller.key.team_id)
        elif not caller.operator and caller.person is not None:
            query = query.join(Member, Member.team_id == Team.id).where(
                Member.person_id == caller.person.id
            )
        return Page(items=[TeamOut.model_validate(team) for team in session.scalars(query)])


@router.post("/teams", status_code=201, tags=["teams"], summary="Create a team")
def create_team(body: TeamIn, caller: Operator, request: Request, runtime: RuntimeDep) -> TeamOut:
    """For operators. The operator does not become a member."""
    with runtime.records.writing() as session:
        idempotency = Idempotency(request, session, caller, body.model_dump_json())
        if earlier := idempotency.earlier():
            return TeamOut.model_validate_json(earlier)
        slug = slug_of(body.name)
        if session.scalar(
            select(Team.id).where(
                (Team.slug == slug) | (func.lower(Team.name) == body.name.lower())
            )
        ):
            raise ApiError(
                "conflict", f"There is a team named {body.name!r} already.", field="name"
            )
        team = Team(id=new_id("team"), slug=slug, name=body.name)
        session.add(team)
        session.flush()
        out = TeamOut.model_validate(team)
        idempotency.keep(out.model_dump_json())
        return out


@router.get("/teams/{team}", tags=["teams"], summary="Show a team")
def show_team(access: Reader, response: Response) -> TeamOut:
    _tag(response, access.team.version)
    return TeamOut.model_validate(access.team)


#: Numbers that null makes unlimited.
_UNLIMITED = {"kept_days", "records_kept_days", "originals_kept_days", "monthly_tokens"}


@router.patch(
    "/teams/{team}", tags=["teams"], summary="Change a team's name, time zone, retention or budget"
)
def change_team(
    body: TeamChange, access: OwnerWrite, request: Request, response: Response
) -> TeamOut:
    """For owners and operators. The short name in addresses stays."""
    team = access.session.get_one(Team, access.team.id)
    check_version(request, team.version)
    if body.name is not None:
        team.name = body.name
    if body.time_zone is not None and body.time_zone != team.time_zone:
        if body.time_zone not in available_timezones():
            raise Refused(
                "time_zone",
                f"{body.time_zone!r} is not a time zone. Write it like 'Europe/Berlin'.",
            )
        team.time_zone = body.time_zone
        plan_again(access.session, team)
    if body.show_askers is not None:
        team.show_askers = body.show_askers
    for name in _UNLIMITED & body.model_fields_set:
        setattr(team, name, getattr(body, name))
    team.version += 1
    access.session.flush()
    _tag(response, team.version)
    return TeamOut.model_validate(team)


@router.delete("/teams/{team}", status_code=204, tags=["teams"], summary="Delete a team")
def delete_team(access: OwnerWrite) -> None:
    """For operators. Deletes everything that the team has."""
    if not access.caller.operator:
        raise ApiError("not-allowed", "Only an operator deletes a team.")
    access.session.delete(access.session.get_one(Team, access.team.id))


@router.get("/teams/{team}/members", tags=["members"], summary="List members")
def list_members(access: Owner) -> Page[MemberOut]:
    members = access.session.scalars(access.scope.select(Member).join(Person).order_by(Person.name))
    return Page(items=[_member(member) for member in members])


@router.patch("/teams/{team}/members/{member}", tags=["members"], summary="Change a member's role")
def change_member(member: str, body: MemberChange, access: OwnerWrite) -> MemberOut:
    result = _find_member(access, member)
    _keep_an_owner(access, result, Role(body.role))
    result.role = Role(body.role)
    access.session.flush()
    return _member(result)


@router.delete(
    "/teams/{team}/members/{member}", status_code=204, tags=["members"], summary="Remove a member"
)
def remove_member(member: str, access: OwnerWrite) -> None:
    result = _find_member(access, member)
    _keep_an_owner(access, result, None)
    access.session.delete(result)


def _find_member(access: Access, ref: str) -> Member:
    query = (
        access.scope.select(Member).join(Person).where((Member.id == ref) | (Person.email == ref))
    )
    result = access.session.scalar(query)
    if result is None:
        raise NotFound("member", ref)
    return result


def _keep_an_owner(access: Access, member: Member, role: Role | None) -> None:
    if member.role != Role.OWNER or role == Role.OWNER or access.caller.operator:
        return
    owners = access.session.scalars(
        access.scope.select(Member).where(Member.role == Role.OWNER)
    ).all()
    if len(owners) <= 1:
        raise ApiError(
            "conflict", "A team keeps at least one owner. Make someone else an owner first."
        )


def _member(member: Member) -> MemberOut:
    return MemberOut(
        id=member.id,
        email=member.person.email,
        name=member.person.name,
        role=Role(member.role).value,
        created_at=member.created_at,
    )


@router.get("/teams/{team}/keys", tags=["keys"], summary="List keys")
def list_keys(access: Owner) -> Page[KeyOut]:
    """The keys themselves are not stored; their first characters identify them."""
    keys = access.session.scalars(access.scope.select(Key).order_by(Key.created_at.desc()))
    return Page(items=[KeyOut.model_validate(key) for key in keys])


@router.post("/teams/{team}/keys", status_code=201, tags=["keys"], summary="Make a key")
def make_key(body: KeyIn, access: OwnerWrite, request: Request) -> KeyCreated:
    """The key is shown only once.

    A repeated Idempotency-Key is rejected for that reason.
    """
    session = access.session
    idempotency = Idempotency(request, session, access.caller, body.model_dump_json())
    if idempotency.earlier() is not None:
        raise ApiError(
            "conflict",
            "The key of this request was made and shown before.",
            advice="List the keys.",
        )
    by_operator = _is_outsider(access)
    if by_operator and (body.expires_in_days is None or body.expires_in_days > _OPERATOR_KEY_DAYS):
        raise ApiError(
            "not-allowed",
            f"As an operator who is not a member you can make keys for at most {_OPERATOR_KEY_DAYS}"
            " days.",
            field="expires_in_days",
            advice="Give a number of days. The team is notified of the key.",
        )
    secret = new_secret("fk")
    key = Key(
        id=new_id("key"),
        team_id=access.team.id,
        name=body.name,
        start=secret[:8],
        secret_hash=hash_secret(secret),
        role=Role(body.role),
        kb_ids=None if body.kbs is None else [access.scope.kb(ref).id for ref in body.kbs],
        expires_at=now() + timedelta(days=body.expires_in_days) if body.expires_in_days else None,
        made_by=access.caller.name,
        by_operator=by_operator,
        requests_per_minute=body.requests_per_minute,
    )
    session.add(key)
    session.flush()
    if by_operator:
        message = (
            f"The operator {key.made_by} made the key {key.name!r} ({key.role.value}) for this"
            f" team. It expires on {key.expires_at:%d %B %Y}; an owner can revoke it before."
        )
        notify_team(
            session,
            access.team.id,
            "key.by_operator",
            message,
            {"key": key.id, "role": key.role.value},
        )
    out = KeyOut.model_validate(key)
    idempotency.keep(out.model_dump_json())
    return KeyCreated(**out.model_dump(), secret=secret)


def _is_outsider(access: Access) -> bool:
    """Whether the caller acts as an operator, without being a member of the team."""
    person = access.caller.person
    if person is None:
        return False
    return (
        access.session.scalar(access.scope.select(Member).where(Member.person_id == person.id))
        is None
    )


@router.put("/teams/{team}/grants", tags=["teams"], summary="Say what a team's sources may read")
def set_grants(team: str, body: GrantsIn, caller: Operator, runtime: RuntimeDep) -> TeamOut:
    """For operators: folders and networks within those of the service.

    Sources that need more fail at their next run, and say why.
    """
    check_grants(runtime.settings, body.source_folders, body.source_networks)
    with runtime.records.writing() as session:
        team_row = session.scalar(select(Team).where((Team.id == team) | (Team.slug == team)))
        if team_row is None:
            raise NotFound("team", team)
        team_row.source_folders, team_row.source_networks = (
            body.source_folders,
            body.source_networks,
        )
        team_row.version += 1
        return TeamOut.model_validate(team_row)


@router.delete("/teams/{team}/keys/{key}", status_code=204, tags=["keys"], summary="Revoke a key")
def revoke_key(key: str, access: OwnerWrite) -> None:
    """The key stops working at once."""
    removed = access.session.execute(
        delete(Key).where(Key.team_id == access.team.id, Key.id == key)
    )
    if not removed.rowcount:  # type: ignore[attr-defined]
        raise NotFound("key", key)
