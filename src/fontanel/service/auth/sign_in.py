"""Signing people in: the session cookie, and its owner."""

from __future__ import annotations

from datetime import timedelta

from fastapi import Request, Response
from sqlalchemy import func, select

from fontanel.engine.runtime.runtime import Runtime
from fontanel.records.ids import hash_secret, new_id, new_secret
from fontanel.records.tables import Key, Member, Person, SignIn, Team, now
from fontanel.schemas import (
    Membership,
    SessionOut,
)
from fontanel.service.audited import note_person
from fontanel.service.auth.access import COOKIE, Caller


def address_of(request: Request) -> str:
    return request.client.host if request.client else ""


def open_session(
    runtime: Runtime,
    request: Request,
    response: Response,
    person: Person,
    provider_session: str | None = None,
) -> SessionOut:
    """Sign a person in: note it, and set the session cookie.

    Args:
        provider_session: The session at the provider, which ends this one when it ends.
    """
    secret = new_secret("fs")
    hours = runtime.settings.sign_in_hours
    note_person(person.id, person.name)
    with runtime.records.writing() as session:
        session.add(
            SignIn(
                token_hash=hash_secret(secret),
                id=new_id("sess"),
                person_id=person.id,
                address=address_of(request),
                provider_session=provider_session,
                agent=request.headers.get("user-agent", "")[:200],
                expires_at=now() + timedelta(hours=hours),
            )
        )
    response.set_cookie(
        COOKIE,
        secret,
        max_age=hours * 3600,
        httponly=True,
        samesite="strict",
        path="/",
        secure=runtime.settings.marks_cookie_secure,
    )
    return describe(runtime, Caller(f"person:{person.id}", person, None))


def describe(runtime: Runtime, caller: Caller) -> SessionOut:
    with runtime.records.reading() as session:
        if caller.key is not None:
            key: Key = caller.key
            team = session.get_one(Team, key.team_id)
            reach = Membership(team_id=team.id, slug=team.slug, name=team.name, role=key.role.value)
            return SessionOut(kind="key", name=key.name, teams=[reach])
        assert caller.person is not None
        rows = session.execute(
            select(Team, Member.role)
            .join(Member, Member.team_id == Team.id)
            .where(Member.person_id == caller.person.id)
            .order_by(Team.name)
        )
        teams = [Membership(team_id=t.id, slug=t.slug, name=t.name, role=role) for t, role in rows]
        open_ones = select(func.count()).where(
            SignIn.person_id == caller.person.id, SignIn.expires_at > now()
        )
        return SessionOut(
            kind="person",
            name=caller.person.name,
            email=caller.person.email,
            operator=caller.person.operator,
            teams=teams,
            sign_ins=session.scalar(open_ones) or 0,
        )
