"""The hash chain of audit logs."""

from fontanel.core.auditing.chain import (
    START,
    Broken,
    entry_hash,
    verify,
    who_hash,
)

__all__ = ["START", "Broken", "entry_hash", "verify", "who_hash"]
