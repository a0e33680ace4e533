"""Traces of what the service does, as OpenTelemetry spans, and a log of what was slow.

Without a collector only slow operations are logged, and OpenTelemetry's SDK is not loaded.
Attributes are ids and counts: neither names nor texts.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import structlog
from opentelemetry import context as contexts
from opentelemetry import trace
from opentelemetry.trace import SpanKind, Status, StatusCode
from opentelemetry.trace.propagation.tracecontext import TraceContextTextMapPropagator

if TYPE_CHECKING:
    from opentelemetry.context import Context
    from opentelemetry.sdk.trace import TracerProvider

log = structlog.get_logger()

Value = str | int | float | bool
_PREFIX = "fontanel."
_NANO = 1_000_000_000
_W3C = TraceContextTextMapPropagator()


@dataclass(slots=True)
class _Setup:
    """Where spans go, and how long an operation may take before it is logged."""

    tracer: trace.Tracer = field(default_factory=trace.NoOpTracer)
    provider: TracerProvider | None = None
    slow_seconds: float = 0.0


_setup = _Setup()


@dataclass(frozen=True, slots=True)
class Part:
    """A part of an operation that is over: seconds from its beginning, and its duration."""

    name: str
    began: float
    seconds: float
    attributes: Mapping[str, Value] = field(default_factory=dict)


class Span:
    """An operation that goes on; `name` and attributes may be set until it ends."""

    def __init__(self, name: str, attributes: dict[str, Value]) -> None:
        self.name = name
        self.attributes = attributes
        self.failed = False

    def set(self, **attributes: Value | None) -> None:
        """Set attributes; None sets nothing."""
        self.attributes |= {name: one for name, one in attributes.items() if one is not None}


def configure_traces(collector: str, version: str, slow_seconds: float) -> None:
    """Export spans to a collector, and log slow operations.

    Args:
        collector: The address of an OTLP/HTTP receiver, such as `http://127.0.0.1:4318`; empty for
            none. The variables `OTEL_...` of OpenTelemetry's specification apply besides.
        version: That of the service.
        slow_seconds: The duration from which an operation is logged; 0 for none.
    """
    _setup.slow_seconds = slow_seconds
    if not collector:
        return
    from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
    from opentelemetry.sdk.resources import Resource
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.sdk.trace.export import BatchSpanProcessor

    resource = Resource.create({"service.name": "fontanel", "service.version": version})
    _setup.provider = TracerProvider(resource=resource)
    exporter = OTLPSpanExporter(endpoint=collector.rstrip("/") + "/v1/traces")
    _setup.provider.add_span_processor(BatchSpanProcessor(exporter))
    _setup.tracer = _setup.provider.get_tracer("fontanel", version)


def end_traces() -> None:
    """Export what has not been exported yet."""
    if _setup.provider is not None:
        _setup.provider.shutdown()
        _setup.provider, _setup.tracer = None, trace.NoOpTracer()


def parent_of(headers: Mapping[str, str]) -> Context:
    """Return the span that a request belongs to, by its `traceparent` header (W3C)."""
    return _W3C.extract(headers)


def current() -> Context:
    """Return the span that this thread or task is in, to be passed to another thread."""
    return contexts.get_current()


@contextmanager
def within(parent: Context) -> Iterator[None]:
    """Have spans of the block belong to a span of another thread."""
    token = contexts.attach(parent)
    try:
        yield
    finally:
        contexts.detach(token)


@contextmanager
def span(name: str, parent: Context | None = None, /, **attributes: Value) -> Iterator[Span]:
    """Trace the block as an operation.

    Args:
        name: What is done, such as `sync`.
        parent: What it belongs to; default: the span that this thread or task is in.
        attributes: Ids and counts.
    """
    result, started = Span(name, attributes), time.monotonic()
    kind = SpanKind.SERVER if parent is not None else SpanKind.INTERNAL
    with _setup.tracer.start_as_current_span(
        name, parent, kind, record_exception=False, set_status_on_exception=False
    ) as recorded:
        try:
            yield result
        except BaseException:
            result.failed = True
            raise
        finally:
            recorded.update_name(result.name)
            recorded.set_attributes(_prefixed(result.attributes))
            if result.failed:
                recorded.set_status(Status(StatusCode.ERROR))
            log_slow(result.name, time.monotonic() - started, result.attributes)


def record(
    name: str,
    seconds: float,
    parent: Context,
    parts: Sequence[Part] = (),
    **attributes: Value,
) -> None:
    """Record an operation that has just ended, with its parts.

    Args:
        name: What was done.
        seconds: How long it took.
        parent: What it belongs to.
        parts: What it consisted of.
        attributes: Ids and counts.
    """
    log_slow(name, seconds, attributes)
    if _setup.provider is None:
        return
    began = time.time() - seconds

    def at(offset: float) -> int:
        return int((began + offset) * _NANO)

    whole = _setup.tracer.start_span(
        name, parent, attributes=_prefixed(attributes), start_time=at(0.0)
    )
    inside = trace.set_span_in_context(whole)
    for part in parts:
        one = _setup.tracer.start_span(
            part.name, inside, attributes=_prefixed(part.attributes), start_time=at(part.began)
        )
        one.end(at(part.began + part.seconds))
    whole.end(at(seconds))


def log_slow(name: str, seconds: float, attributes: Mapping[str, Value]) -> None:
    """Log an operation that took long."""
    if _setup.slow_seconds and seconds >= _setup.slow_seconds and not attributes.get("streams"):
        log.warning("slow operation", operation=name, seconds=round(seconds, 3), **attributes)


def _prefixed(attributes: Mapping[str, Value]) -> dict[str, Value]:
    """Return attributes with the product's prefix, except those that OpenTelemetry names."""
    return {name if "." in name else _PREFIX + name: value for name, value in attributes.items()}
