"""Who acts in a request, and what the audit log calls that.

The name of an action follows from the route: the noun of its path and what is done with it, such as
`kb.create` for `POST /teams/{team}/kbs`. So every route that changes something has one.
"""

from __future__ import annotations

import re

from starlette.datastructures import Headers
from starlette.requests import Request
from starlette.types import Scope

from fontanel.engine.runtime.runtime import Runtime
from fontanel.records.audit import Acting, current

_VERBS = {"POST": "create", "PATCH": "change", "PUT": "change", "DELETE": "delete", "GET": "read"}
#: The last part of a path by which much is taken out at once.
_EXPORTS = frozenset({"csv", "export", "pack"})
#: Where the rule below would give a name that nobody would look for.
_NAMES = {
    "POST /api/v1/session": "session.sign-in",
    "GET /api/v1/session/provider/return": "session.sign-in",
    "POST /api/v1/session/provider/logout": "session.end",
    "DELETE /api/v1/session": "session.sign-out",
    "DELETE /api/v1/session/sign-ins": "session.sign-out-elsewhere",
    "PUT /api/v1/session/password": "password.change",
    "POST /api/v1/passwords": "password.change",
    "POST /api/v1/people/{email}/password-link": "password.make-link",
    "POST /api/v1/invitations/open": "invitation.open",
    "POST /api/v1/invitations/accept": "invitation.accept",
    "POST /api/v1/teams/{team}/packs": "pack.import",
    "PUT /api/v1/teams/{team}/kbs/{kb}/documents/{document}/written": "document.rewrite",
    "POST /api/v1/teams/{team}/kbs/{kb}/written": "document.write",
    "POST /api/v1/teams/{team}/kbs/{kb}/approved": "approved.create",
    "PUT /api/v1/teams/{team}/desks/{desk}/second": "second-version.change",
    "DELETE /api/v1/teams/{team}/desks/{desk}/second": "second-version.delete",
    "POST /api/v1/teams/{team}/desks/{desk}/second/promote": "second-version.promote",
    "POST /api/v1/teams/{team}/desks/{desk}/visitor-key": "visitor-key.create",
    "POST /api/v1/teams/{team}/gaps/{gap}/comments": "gap.comment",
    "POST /api/v1/teams/{team}/kbs/{kb}/sources/{source}/syncs": "sync.start",
    "POST /api/v1/signals/{source}": "source.signal",
}
_PREFIX = re.compile(r"^/api/v1(?:/teams/\{team\}(?=/))?/")
_PARAMETER = re.compile(r"\{(\w+)(?::\w+)?\}")


def action_of(method: str, path: str) -> str:
    """Return the name of what a route does.

    Args:
        method: GET, POST and so on.
        path: The route's path with its parameters, such as `/api/v1/teams/{team}/kbs/{kb}`.
    """
    if name := _NAMES.get(f"{method} {path}"):
        return name
    segments = _PREFIX.sub("", path).strip("/").split("/")
    words = [part for part in segments if not part.startswith("{")]
    noun = _singular(words[-1]) if words else "service"
    if method == "GET" and words and words[-1] in _EXPORTS:
        return f"{_singular(words[-2]) if len(words) > 1 else 'audit'}.export"
    # `documents/{document}/retry` ends in what is done, `kbs/{kb}/documents` in a collection.
    if method == "POST" and len(words) > 1 and not segments[-1].endswith(("s", "}")):
        return f"{_singular(words[-2])}.{words[-1]}"
    return f"{noun}.{_VERBS.get(method, method.lower())}"


def _singular(word: str) -> str:
    return word[:-1] if word.endswith("s") else word


def acting_in(scope: Scope) -> Acting:
    """Return who acts in a request: nobody, until the caller is looked up."""
    client = scope.get("client")
    return Acting(
        action=scope["method"].lower(),
        target=scope["path"][:200],
        address=client[0] if client else "",
        request_id=scope["state"]["request_id"],
    )


def exports(request: Request) -> bool:
    """Return whether much is taken out at once, by a request whose route is noted."""
    acting = current()
    return request.method == "GET" and acting is not None and acting.action.endswith(".export")


def note_route(request: Request) -> None:
    """Note which route answers a request, and on what."""
    acting = current()
    route = request.scope.get("route")
    if acting is None or route is None:
        return
    acting.action = action_of(request.method, route.path)
    values = request.path_params
    acting.about = next((str(value) for value in values.values() if "@" in str(value)), "")
    template = _PREFIX.sub("", route.path)

    def value_of(parameter: re.Match[str]) -> str:
        value = str(values.get(parameter[1], ""))
        return "*" if "@" in value else value

    acting.target = _PARAMETER.sub(value_of, template)


def note_person(person_id: str, name: str) -> None:
    """Note that a person acts."""
    if (acting := current()) is not None:
        acting.kind, acting.id, acting.name = "person", person_id, name


def note_key(key_id: str, name: str) -> None:
    """Note that a program with a key acts."""
    if (acting := current()) is not None:
        acting.kind, acting.id, acting.name = "key", key_id, name


def note_guest(asker: str) -> None:
    """Note that a guest with a link acts."""
    if (acting := current()) is not None:
        acting.kind, acting.id = "guest", asker.removeprefix("guest:")


def note_team(team_id: str) -> None:
    """Note the team in which somebody acts."""
    if (acting := current()) is not None:
        acting.team_id = team_id


def note_about(text: str) -> None:
    """Note personal data that an action names, such as the e-mail address of a sign-in."""
    if (acting := current()) is not None:
        acting.about = text


def note_read(runtime: Runtime) -> None:
    """Record that the caller reads what belongs to others, or takes much out."""
    if (acting := current()) is not None:
        runtime.audit_notes.read(acting)


def note_stranger() -> None:
    """Note that the caller is no member of the team that they named."""
    if (acting := current()) is not None:
        acting.stranger = True


def note_refusal(scope: Scope, acting: Acting, status: int) -> None:
    """Record that a request was refused, if it came with credentials or tried some."""
    stranger = status == 404 and acting.stranger
    kind = scope["state"].get("problem") or {401: "not-signed-in", 403: "not-allowed"}.get(status)
    if not (stranger or status in (401, 403) or kind == "too-many-attempts"):
        return
    headers = Headers(scope=scope)
    tried = "authorization" in headers or "cookie" in headers or acting.about
    runtime: Runtime | None = scope["app"].state.runtime if "app" in scope else None
    if tried and runtime is not None:
        runtime.audit_notes.refused(acting, str(kind))
