"""A drive with WebDAV (RFC 4918) over one folder: list, read, write, move."""

from __future__ import annotations

import base64
import hmac
import os
import secrets
import shutil
from collections.abc import Iterator
from datetime import UTC, datetime
from email.utils import formatdate
from pathlib import Path
from urllib.parse import quote, unquote, urlsplit
from xml.sax.saxutils import escape

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import FileResponse, Response
from starlette.routing import Route

_METHODS = ["OPTIONS", "PROPFIND", "GET", "HEAD", "PUT", "DELETE", "MKCOL", "MOVE"]


def drive_app(directory: Path, user: str, password: str) -> Starlette:
    """A drive over a folder; without a password everybody may."""
    drive = _Drive(directory.resolve(), user, password)
    return Starlette(routes=[Route("/{path:path}", drive.answer, methods=_METHODS)])


class _Drive:
    def __init__(self, directory: Path, user: str, password: str) -> None:
        self._directory = directory
        self._expected = (
            "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()
            if password
            else None
        )

    async def answer(self, request: Request) -> Response:
        """Answer a request."""
        if not self._allowed(request):
            return Response(status_code=401, headers={"WWW-Authenticate": 'Basic realm="drive"'})
        path = self._path(request.path_params["path"])
        if path is None:
            return Response(status_code=400)
        if request.method == "OPTIONS":
            return Response(headers={"DAV": "1", "Allow": ", ".join(_METHODS)})
        if request.method == "PROPFIND":
            return self._properties(request, path)
        if request.method == "PUT":
            return _put(path, await request.body())
        if request.method == "MKCOL":
            return _make_folder(path)
        return self._answer_existing(request, path)

    def _allowed(self, request: Request) -> bool:
        sent = request.headers.get("authorization", "")
        return not self._expected or hmac.compare_digest(sent, self._expected)

    def _answer_existing(self, request: Request, path: Path) -> Response:
        if not path.exists():
            return Response(status_code=404)
        if request.method == "DELETE":
            shutil.rmtree(path) if path.is_dir() else path.unlink()
            return Response(status_code=204)
        if request.method == "MOVE":
            return self._move(request, path)
        if path.is_dir():
            return Response("A folder.", status_code=405)
        if request.headers.get("if-none-match") == _etag(path):
            return Response(status_code=304)
        return FileResponse(path, headers={"ETag": _etag(path)})

    def _path(self, relative: str) -> Path | None:
        result = (self._directory / relative.strip("/")).resolve()
        return result if result.is_relative_to(self._directory) else None

    def _move(self, request: Request, path: Path) -> Response:
        target = self._path(unquote(urlsplit(request.headers.get("destination", "")).path))
        if target is None or not target.parent.is_dir():
            return Response(status_code=409)
        there = target.exists()
        os.replace(path, target)
        return Response(status_code=204 if there else 201)

    def _properties(self, request: Request, path: Path) -> Response:
        if not path.exists():
            return Response(status_code=404)
        depth = request.headers.get("depth", "infinity")
        if depth == "infinity" and path.is_dir():
            return Response("Ask with Depth 0 or 1.", status_code=403)
        shown = [path, *sorted(path.iterdir())] if path.is_dir() and depth == "1" else [path]
        rows = "".join(part for one in shown for part in self._row(one))
        text = (
            '<?xml version="1.0" encoding="utf-8"?>\n<D:multistatus'
            f' xmlns:D="DAV:">{rows}</D:multistatus>'
        )
        return Response(text, status_code=207, media_type="application/xml")

    def _row(self, path: Path) -> Iterator[str]:
        try:
            result = path.stat()
        except FileNotFoundError:
            return
        relative = str(path.relative_to(self._directory)) if path != self._directory else ""
        address = "/" + quote(relative) + ("/" if path.is_dir() and relative else "")
        made = datetime.fromtimestamp(result.st_mtime, UTC)
        about = (
            f"<D:getlastmodified>{formatdate(made.timestamp(), usegmt=True)}</D:getlastmodified>"
        )
        if path.is_dir():
            about += "<D:resourcetype><D:collection/></D:resourcetype>"
        else:
            about += f"<D:resourcetype/><D:getcontentlength>{result.st_size}</D:getcontentlength><D:getetag>{escape(_etag(path))}</D:getetag>"  # noqa: E501
        yield (
            f"<D:response><D:href>{escape(address)}</D:href><D:propstat><D:prop>{about}</D:prop>"
            "<D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>"
        )


def _etag(path: Path) -> str:
    result = path.stat()
    return f'"{result.st_mtime_ns:x}-{result.st_size:x}"'


def _put(path: Path, body: bytes) -> Response:
    if not path.parent.is_dir() or path.is_dir():
        return Response(status_code=409)
    there = path.exists()
    scratch = path.with_name(f".{path.name}.{secrets.token_hex(4)}")
    scratch.write_bytes(body)
    os.replace(scratch, path)
    return Response(status_code=204 if there else 201)


def _make_folder(path: Path) -> Response:
    if path.exists():
        return Response(status_code=405)
    if not path.parent.is_dir():
        return Response(status_code=409)
    path.mkdir()
    return Response(status_code=201)
