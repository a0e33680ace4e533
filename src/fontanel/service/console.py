"""The web console's files, built by Vite into `service/console`."""

from __future__ import annotations

from pathlib import Path

from fastapi import FastAPI, Request, Response
from fastapi.responses import FileResponse, PlainTextResponse

from fontanel.service.problems import ProblemError

BUILT = Path(__file__).parent / "console"
_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; "
    "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)


def install(app: FastAPI) -> None:
    """Serve the console at every path that the API does not use."""

    @app.get("/{path:path}", include_in_schema=False)
    def console(path: str, request: Request) -> Response:
        if path.startswith(("api/", "health/")) or path == "api":
            raise ProblemError("not-found", f"There is nothing at {request.url.path}.", advice="See /api/docs.")
        file = (BUILT / path).resolve()
        if path and file.is_file() and file.is_relative_to(BUILT):
            lasting = "public, max-age=31536000, immutable" if path.startswith("assets/") else "no-cache"
            return FileResponse(file, headers={"Cache-Control": lasting})
        index = BUILT / "index.html"
        if not index.is_file():
            return PlainTextResponse("The console is not built. Run `make console`.", status_code=503)
        return FileResponse(index, headers={"Cache-Control": "no-cache", "Content-Security-Policy": _POLICY})
