"""What was done to a stopped service on its machine, logged when it starts again."""

from __future__ import annotations

import json
import os
import secrets
from pathlib import Path

from sqlalchemy import select

from fontanel.records.audit import SERVICE_LOG, Acting, write_entry
from fontanel.records.tables import AuditEntry
from fontanel.records.unit_of_work import Records

#: The folder of a data directory with what has not been logged yet, one file each.
_FOLDER = "unlogged"


def leave_for_log(data: Path, action: str, target: str, name: str) -> None:
    """Write down what somebody did; the service logs it when it starts.

    Args:
        data: The data directory that it was done to.
        name: The account of the person on the machine.
    """
    folder = data / _FOLDER
    folder.mkdir(mode=0o700, exist_ok=True)
    path = folder / f"{secrets.token_hex(8)}.json"
    scratch = path.with_suffix(".part")
    scratch.write_text(json.dumps({"action": action, "target": target, "name": name}))
    os.replace(scratch, path)


def log_what_was_left(records: Records, data: Path) -> None:
    """Log what was done while the service was stopped, each once."""
    left = sorted((data / _FOLDER).glob("*.json"), key=lambda path: path.stat().st_mtime)
    for path in left:
        done = json.loads(path.read_text())
        acting = Acting(
            done["action"], done["target"], "machine", name=done["name"], request_id=path.stem
        )
        logged = select(AuditEntry.key).where(
            AuditEntry.log == SERVICE_LOG, AuditEntry.request_id == path.stem
        )
        with records.writing() as session:
            if session.scalar(logged) is None:
                write_entry(session, acting, [])
        path.unlink()
