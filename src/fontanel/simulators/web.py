"""A web site of the files in a folder, with ETags."""

from __future__ import annotations

from pathlib import Path

from starlette.applications import Starlette
from starlette.routing import Mount
from starlette.staticfiles import StaticFiles


def site_app(directory: Path) -> Starlette:
    return Starlette(routes=[Mount("/", StaticFiles(directory=directory, html=True))])
