"""Logs: one JSON object a line, or readable lines on a terminal."""

from __future__ import annotations

import logging
import sys
from collections.abc import MutableMapping
from typing import Any

import structlog

from fontanel.errors import exception_frames


def _name_exception(
    logger: Any, method: str, event: MutableMapping[str, Any]
) -> MutableMapping[str, Any]:
    info = event.pop("exc_info", None)
    if info is True:
        info = sys.exc_info()
    error = (
        info if isinstance(info, BaseException) else info[1] if isinstance(info, tuple) else None
    )
    if isinstance(error, BaseException):
        event["exception"] = exception_frames(error)
    return event


def configure_logs(level: str = "info", *, readable: bool | None = None) -> None:
    """Write logs to stderr.

    Args:
        level: The lowest level that is written: debug, info, warning or error.
        readable: Lines for people rather than JSON; by default on a terminal.
    """
    if readable is None:
        readable = sys.stderr.isatty()
    renderer: Any = (
        structlog.dev.ConsoleRenderer() if readable else structlog.processors.JSONRenderer()
    )
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            _name_exception,
            renderer,
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.getLevelName(level.upper())),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )
