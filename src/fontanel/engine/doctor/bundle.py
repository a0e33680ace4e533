"""A support bundle: what helps to find a fault, without secrets and contents."""

from __future__ import annotations

import importlib.metadata
import json
import platform
import sys
import zipfile
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from pydantic import SecretStr
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel import __version__
from fontanel.engine.doctor.findings import Finding
from fontanel.records.database import newest_schema
from fontanel.records.tables import Base
from fontanel.settings import Settings

#: Settings that may contain a secret, such as a password in an address.
_SECRET = frozenset({"backup_access_key", "metrics_token", "smtp_url"})


def bundle_parts(
    session: Session, settings: Settings, findings: Sequence[Finding]
) -> dict[str, Any]:
    """Return the parts of a bundle: findings, settings, versions, and numbers of rows."""
    tables = Base.metadata.sorted_tables
    return {
        "findings": [asdict(finding) for finding in findings],
        "settings": {name: _shown(name, value) for name, value in settings},
        "versions": {
            "fontanel": __version__,
            "schema": newest_schema(),
            "python": sys.version,
            "platform": platform.platform(),
            "packages": {
                one.metadata["Name"]: one.version for one in importlib.metadata.distributions()
            },
        },
        "rows": {
            table.name: session.scalar(select(func.count()).select_from(table)) for table in tables
        },
    }


def _shown(name: str, value: object) -> Any:
    if isinstance(value, SecretStr):
        return "set" if value.get_secret_value() else ""
    if name in _SECRET:
        return "set" if value else ""
    return value if isinstance(value, bool | int | float | dict) or value is None else str(value)


def write_bundle(path: Path, parts: dict[str, Any]) -> None:
    """Write the parts as files of a ZIP archive."""
    with zipfile.ZipFile(path, "x", zipfile.ZIP_DEFLATED) as archive:
        for name, part in parts.items():
            archive.writestr(
                f"{name}.json", json.dumps(part, indent=2, sort_keys=True, default=str)
            )
