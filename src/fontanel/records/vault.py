"""Secrets that the service must read again, encrypted at rest."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from cryptography.fernet import Fernet, InvalidToken

from fontanel.errors import SecretUnreadable


class Vault:
    """Encrypts values as JSON with the key in `secret.key`, created on first use."""

    def __init__(self, path: Path) -> None:
        self._fernet = Fernet(_key(path))

    def seal(self, value: Any) -> bytes:
        return self._fernet.encrypt(json.dumps(value).encode())

    def open(self, sealed: bytes) -> Any:
        """Raises SecretUnreadable."""
        try:
            return json.loads(self._fernet.decrypt(sealed))
        except InvalidToken as error:
            raise SecretUnreadable(
                "The credentials were encrypted with another key (secret.key in the data"
                " directory). Enter them again."
            ) from error


def _key(path: Path) -> bytes:
    try:
        return path.read_bytes().strip()
    except FileNotFoundError:
        key = Fernet.generate_key()
        # All or nothing: a truncated key would lock away what is encrypted next.
        scratch = path.with_suffix(".part")
        descriptor = os.open(scratch, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(key)
            file.flush()
            os.fsync(file.fileno())
        scratch.rename(path)
        return key
