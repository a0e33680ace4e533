"""Logs: one JSON object a line, or readable lines on a terminal."""

from __future__ import annotations

import logging
import sys
import traceback
from collections.abc import MutableMapping
from typing import Any

import structlog

#: Lines of an exception and its causes that are logged.
_MAX_LINES = 200


def exception_frames(error: BaseException) -> str:
    """Return where an exception came from, without its message.

    Messages often quote what people store or ask, which does not belong in a log.
    """
    lines: list[str] = []
    seen: BaseException | None = error
    while seen is not None and len(lines) < _MAX_LINES:
        lines.append(f"{type(seen).__module__}.{type(seen).__qualname__}")
        frames = traceback.extract_tb(seen.__traceback__)
        lines += [f"  {frame.filename}:{frame.lineno} {frame.name}" for frame in frames]
        seen = seen.__cause__ or (None if seen.__suppress_context__ else seen.__context__)
    return "\n".join(lines)


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
