"""Teams, their members and their keys."""

from __future__ import annotations

from datetime import timedelta
from zoneinfo import available_timezones

from fastapi import Request, Response
from sqlalchemy import delete, func, select

from fontanel.records.database import writing
from fontanel.records.ids import hash_password, hash_secret, new_id, new_password, new_secret, slug_of
from fontanel.records.scope import NotInScope
from fontanel.records.tables import Edition, Key, Member, Person, Role, Team, now
from fontanel.schemas import (
    KeyIn,
    KeyMade,
    KeyOut,
    MemberChange,
    MemberIn,
    MemberMade,
    MemberOut,
    Page,
    TeamChange,
    TeamIn,
    TeamOut,
)
from fontanel.service.access import (
    Access,
    CallerDep,
    Idempotency,
    Operator,
    Owner,
    OwnerWrite,
    Reader,
    WorkshopDep,
    check_version,
)
from fontanel.service.problems import ProblemError
from fontanel.service.routers import api_router
from fontanel.work.documents import Refused
from fontanel.work.sources import plan_again

router = api_router()


def _tag(response: Response, version: int) -> None:
    response.headers["ETag"] = f'"{version}"'


@router.get("/teams", tags=["teams"], summary="List the teams you reach")
def list_teams(caller: CallerDep, workshop: WorkshopDep) -> Page[TeamOut]:
    """A member sees their teams, an operator all teams, a key its one team."""
    with workshop.sessions() as session:
        query = select(Team).order_by(Team.name)
        if caller.key is not None:
            query = query.where(Team.id == caller.key.team_id)
        elif not caller.operator and caller.person is not None:
            query = query.join(Member, Member.team_id == Team.id).where(Member.person_id == caller.person.id)
        return Page(items=[TeamOut.model_validate(team) for team in session.scalars(query)])


@router.post("/teams", status_code=201, tags=["teams"], summary="Create a team")
def create_team(body: TeamIn, caller: Operator, request: Request, workshop: WorkshopDep) -> TeamOut:
    """For operators. The operator does not become a member."""
    with writing(workshop.sessions) as session:
        idempotency = Idempotency(request, session, caller, body.model_dump_json())
        if earlier := idempotency.earlier():
            return TeamOut.model_validate_json(earlier)
        slug = slug_of(body.name)
        if session.scalar(select(Team.id).where((Team.slug == slug) | (func.lower(Team.name) == body.name.lower()))):
            raise ProblemError("conflict", f"There is a team named {body.name!r} already.", field="name")
        team = Team(id=new_id("team"), slug=slug, name=body.name)
        session.add(team)
        session.flush()
        out = TeamOut.model_validate(team)
        idempotency.keep(out.model_dump_json())
        session.commit()
        return out


@router.get("/teams/{team}", tags=["teams"], summary="Show a team")
def show_team(access: Reader, response: Response) -> TeamOut:
    _tag(response, access.team.version)
    return TeamOut.model_validate(access.team)


@router.patch("/teams/{team}", tags=["teams"], summary="Change a team's name, time zone, retention or budget")
def change_team(body: TeamChange, access: OwnerWrite, request: Request, response: Response) -> TeamOut:
    """For owners and operators. The short name in addresses stays."""
    team = access.session.get_one(Team, access.team.id)
    check_version(request, team.version)
    if body.name is not None:
        team.name = body.name
    if body.time_zone is not None and body.time_zone != team.time_zone:
        if body.time_zone not in available_timezones():
            raise Refused("time_zone", f"{body.time_zone!r} is not a time zone. Write it like 'Europe/Berlin'.")
        team.time_zone = body.time_zone
        plan_again(access.session, team)
    for name in {"kept_days", "monthly_tokens"} & body.model_fields_set:
        setattr(team, name, getattr(body, name))
    team.version += 1
    access.session.commit()
    _tag(response, team.version)
    return TeamOut.model_validate(team)


@router.delete("/teams/{team}", status_code=204, tags=["teams"], summary="Delete a team")
def delete_team(access: OwnerWrite) -> None:
    """For operators. Everything the team has goes with it."""
    if not access.caller.operator:
        raise ProblemError("not-allowed", "Only an operator deletes a team.")
    editions = access.session.scalars(access.scope.select(Edition)).all()
    access.session.delete(access.session.get_one(Team, access.team.id))
    access.session.commit()
    for edition in editions:
        access.workshop.editions.forget(edition.id)
    access.workshop.vectors.forget_team(access.team.id)


@router.get("/teams/{team}/members", tags=["members"], summary="List members")
def list_members(access: Owner) -> Page[MemberOut]:
    members = access.session.scalars(access.scope.select(Member).join(Person).order_by(Person.name))
    return Page(items=[_member(member) for member in members])


@router.post("/teams/{team}/members", status_code=201, tags=["members"], summary="Add a member")
def add_member(body: MemberIn, access: OwnerWrite, request: Request) -> MemberMade:
    """A person new to the service gets a password, shown once in the answer; others keep theirs."""
    session = access.session
    idempotency = Idempotency(request, session, access.caller, body.model_dump_json())
    if earlier := idempotency.earlier():
        return MemberMade.model_validate_json(earlier)
    person = session.scalar(select(Person).where(Person.email == body.email))
    password = None
    if person is None:
        password = new_password()
        person = Person(id=new_id("person"), email=body.email, name=body.name, password_hash=hash_password(password))
        session.add(person)
        session.flush()
    if session.scalar(access.scope.select(Member).where(Member.person_id == person.id)):
        raise ProblemError("conflict", f"{body.email} is a member already.", field="email")
    member = Member(id=new_id("member"), team_id=access.team.id, person_id=person.id, role=Role(body.role))
    session.add(member)
    session.flush()
    session.refresh(member)
    made = MemberMade(**_member(member).model_dump())
    idempotency.keep(made.model_dump_json())
    session.commit()
    made.password = password
    return made


@router.patch("/teams/{team}/members/{member}", tags=["members"], summary="Change a member's role")
def change_member(member: str, body: MemberChange, access: OwnerWrite) -> MemberOut:
    found = _find_member(access, member)
    _keep_an_owner(access, found, Role(body.role))
    found.role = Role(body.role)
    access.session.commit()
    return _member(found)


@router.delete("/teams/{team}/members/{member}", status_code=204, tags=["members"], summary="Remove a member")
def remove_member(member: str, access: OwnerWrite) -> None:
    found = _find_member(access, member)
    _keep_an_owner(access, found, None)
    access.session.delete(found)
    access.session.commit()


def _find_member(access: Access, ref: str) -> Member:
    query = access.scope.select(Member).join(Person).where((Member.id == ref) | (Person.email == ref))
    found = access.session.scalar(query)
    if found is None:
        raise NotInScope("member", ref)
    return found


def _keep_an_owner(access: Access, member: Member, role: Role | None) -> None:
    if member.role != Role.OWNER or role == Role.OWNER or access.caller.operator:
        return
    owners = access.session.scalars(access.scope.select(Member).where(Member.role == Role.OWNER)).all()
    if len(owners) <= 1:
        raise ProblemError("conflict", "A team keeps at least one owner. Make someone else an owner first.")


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
    """The keys themselves are not kept; their first characters tell them apart."""
    keys = access.session.scalars(access.scope.select(Key).order_by(Key.created_at.desc()))
    return Page(items=[KeyOut.model_validate(key) for key in keys])


@router.post("/teams/{team}/keys", status_code=201, tags=["keys"], summary="Make a key")
def make_key(body: KeyIn, access: OwnerWrite, request: Request) -> KeyMade:
    """The key is in the answer and never shown again. An Idempotency-Key seen before is refused, for the same reason."""
    session = access.session
    idempotency = Idempotency(request, session, access.caller, body.model_dump_json())
    if idempotency.earlier() is not None:
        raise ProblemError("conflict", "The key of this request was made and shown before.", advice="List the keys.")
    secret = new_secret("fk")
    key = Key(
        id=new_id("key"), team_id=access.team.id, name=body.name, start=secret[:8], secret_hash=hash_secret(secret),
        role=Role(body.role), kb_ids=None if body.kbs is None else [access.scope.kb(ref).id for ref in body.kbs],
        expires_at=now() + timedelta(days=body.expires_in_days) if body.expires_in_days else None,
    )  # fmt: skip
    session.add(key)
    session.flush()
    out = KeyOut.model_validate(key)
    idempotency.keep(out.model_dump_json())
    session.commit()
    return KeyMade(**out.model_dump(), secret=secret)


@router.delete("/teams/{team}/keys/{key}", status_code=204, tags=["keys"], summary="Revoke a key")
def revoke_key(key: str, access: OwnerWrite) -> None:
    """The key stops working at once."""
    gone = access.session.execute(delete(Key).where(Key.team_id == access.team.id, Key.id == key))
    if not gone.rowcount:  # type: ignore[attr-defined]
        raise NotInScope("key", key)
    access.session.commit()
