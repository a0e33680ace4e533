"""Errors of simulated models and embedders, in the form of their protocols."""

from __future__ import annotations

from starlette.responses import JSONResponse


def error(status: int, message: str, headers: dict[str, str] | None = None) -> JSONResponse:
    return JSONResponse({"error": {"message": message, "code": status}}, status, headers=headers)
