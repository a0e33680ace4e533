"""Every error of the service, drawn as a tree.

`service/problems.py` maps them to problem types.

FontanelError
├── Refused             a value cannot be accepted; `field` names it
├── NotFound            no such record for this team and caller
├── Conflict            the state of a record does not allow this
├── QuotaReached        a team has used up one of its quotas
├── SecretUnreadable    a stored secret was encrypted with another key
├── DataInUse           another process uses the data directory
├── NewerData           a newer version used the data directory
├── Unavailable         something that is needed does not respond; trying later may help
│   ├── Busy            another change held the write lock for too long
│   ├── ModelUnusable   a model is missing, switched off, or not for this team
│   ├── MailFailed      the mail server did not accept a message
│   ├── WorkerDied      a worker process ended before it replied
│   │   └── WorkerOverran   it took longer than allowed and was killed
│   ├── WriterFailed    a model did not write a usable answer
│   ├── SourceUnavailable   a source cannot be listed
│   └── ChannelUnavailable  the other side of a channel cannot be reached
├── ItemFailed          one item of a source cannot be fetched
├── SettingsRefused     settings of a source cannot be used; `field` names one
├── MessageRefused      the other side of a channel refuses a message for good
├── ReadingFailed       a document cannot be read
├── SegmentDamaged      a file of an index is not what was written
└── EmbedderMissing     there is no embedder at the given place

Those from `WorkerDied` on are defined where they occur.
"""

from __future__ import annotations

import traceback


class FontanelError(Exception):
    """The root of all errors that the service raises on purpose."""


class Refused(FontanelError, ValueError):
    """A value cannot be accepted as it is. `field` names it, as a path in the request."""

    def __init__(self, field: str, message: str) -> None:
        super().__init__(message)
        self.field = field


class NotFound(FontanelError, LookupError):
    """No such record for this team and caller; `noun` and `ref` name it."""

    def __init__(self, noun: str, ref: str) -> None:
        super().__init__(f"There is no {noun} {ref!r}.")
        self.noun = noun
        self.ref = ref


class Conflict(FontanelError):
    """The state of a record does not allow the change; `field` and `advice` help."""

    def __init__(
        self, message: str, *, field: str | None = None, advice: str | None = None
    ) -> None:
        super().__init__(message)
        self.field = field
        self.advice = advice


class QuotaReached(FontanelError):
    """A team has used up one of its quotas; `quota` names it."""

    def __init__(self, quota: str, message: str) -> None:
        super().__init__(message)
        self.quota = quota
        self.advice = "An operator of the service can raise it. Usage has the team's quotas."


class SecretUnreadable(FontanelError):
    """A stored secret cannot be decrypted with this data directory's key."""


class DataInUse(FontanelError):
    """Another process uses this data directory."""


class NewerData(FontanelError):
    """A newer version of the service used this data directory."""


class Unavailable(FontanelError):
    """Something that is needed does not respond. Trying again later may help."""


class Busy(Unavailable):
    """Another change held the write lock for too long."""


class ModelUnusable(Unavailable):
    """A model cannot be used now; the message is a clause that says why."""


class MailFailed(Unavailable):
    """The mail server did not accept a message."""


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
