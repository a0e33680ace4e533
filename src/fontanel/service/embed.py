"""The script that shows a desk's chat as a panel on another site."""

from __future__ import annotations

import json
from pathlib import Path

from fastapi import FastAPI, Request, Response
from fastapi.responses import PlainTextResponse

from fontanel.engine.answering.targets import published_version
from fontanel.records.tables import Desk
from fontanel.service.problems import ApiError
from fontanel.service.threads import run_briefly

_BUILT = Path(__file__).parent / "console" / "embed.js"
#: The text in the built script that a desk takes the place of.
_PLACE = '"%DESK%"'


def install(app: FastAPI) -> None:
    """Serve the script of each desk."""

    @app.get("/embed/{desk}.js", include_in_schema=False)
    async def embed(desk: str, request: Request) -> Response:
        return await run_briefly(_script, request, desk)


def _script(request: Request, ref: str) -> Response:
    """Return the script with the desk's name and colour in it.

    Raises:
        ApiError: not-found, unless the desk's published version names sites that may show it.
    """
    runtime = request.app.state.runtime
    with runtime.records.reading() as session:
        desk = session.get(Desk, ref)
        version = None if desk is None else published_version(session, desk)
    if desk is None or version is None or not version.settings.get("frame_origins"):
        raise ApiError(
            "not-found",
            "There is no desk here that other sites may show.",
            advice="Name the sites that may embed the chat in the desk's settings, and publish it.",
        )
    if not _BUILT.is_file():
        return PlainTextResponse("The console is not built. Run `make console`.", status_code=503)
    shown = {
        "id": desk.id,
        "name": desk.name,
        "symbol": version.settings.get("symbol", ""),
        "colour": version.settings.get("colour", "harbour"),
        "origin": runtime.settings.origin,
    }
    return Response(
        _BUILT.read_text().replace(_PLACE, json.dumps(shown)),
        media_type="text/javascript; charset=utf-8",
        headers={"Cache-Control": "no-cache", "Cross-Origin-Resource-Policy": "cross-origin"},
    )
