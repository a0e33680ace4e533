"""The web console's files, built by Vite into `service/console`."""

from __future__ import annotations

from html import escape
from pathlib import Path

from fastapi import FastAPI, Request, Response
from fastapi.responses import FileResponse, HTMLResponse, PlainTextResponse

from fontanel.engine.answering.targets import published_version
from fontanel.records.tables import Desk
from fontanel.schemas.desks import FRAME_ORIGIN
from fontanel.service.problems import ApiError

BUILT = Path(__file__).parent / "console"
_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none';"
    " base-uri 'self'; form-action 'self'; frame-ancestors "
)
#: Of the built pages; the path of the public address takes its place.
_BASE = '<base href="/" />'


def install(app: FastAPI, root: str) -> None:
    """Serve the console at every path that the API does not use.

    Args:
        root: The path of the public address, without the last slash.
    """

    @app.get("/api/docs", include_in_schema=False)
    def describe_api() -> Response:
        return _page("docs.html", "'none'", root)

    @app.get("/{path:path}", include_in_schema=False)
    def console(path: str, request: Request) -> Response:
        if path.startswith(("api/", "health/")) or path == "api":
            raise ApiError(
                "not-found", f"There is nothing at {request.url.path}.", advice="See /api/docs."
            )
        file = (BUILT / path).resolve()
        if path and file.is_file() and file.is_relative_to(BUILT):
            if file.suffix == ".html":
                return _page(file.name, "'none'", root)
            lasting = (
                "public, max-age=31536000, immutable" if path.startswith("assets/") else "no-cache"
            )
            return FileResponse(file, headers={"Cache-Control": lasting})
        return _page("index.html", _framers(request, path), root)


def _page(name: str, framers: str, root: str) -> Response:
    page = BUILT / name
    if not page.is_file():
        return PlainTextResponse("The console is not built. Run `make console`.", status_code=503)
    return HTMLResponse(
        page.read_text().replace(_BASE, f'<base href="{escape(root)}/" />'),
        headers={"Cache-Control": "no-cache", "Content-Security-Policy": _POLICY + framers},
    )


def _framers(request: Request, path: str) -> str:
    """Return the sites that may embed a page: those of a desk's published version."""
    runtime = request.app.state.runtime
    if path.startswith("chat/") and runtime is not None:
        with runtime.records.reading() as session:
            desk = session.get(Desk, path.removeprefix("chat/").strip("/"))
            version = None if desk is None else published_version(session, desk)
        stored = [] if version is None else version.settings.get("frame_origins") or []
        # Versions from before origins were checked may have anything in them.
        if origins := [origin for origin in stored if FRAME_ORIGIN.fullmatch(origin)]:
            return " ".join(origins)
    return "'none'"
