"""Secrets that the service must read again, encrypted at rest."""

from __future__ import annotations

import base64
import json
import os
from pathlib import Path
from typing import Any

from cryptography.fernet import Fernet, InvalidToken
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from fontanel.errors import SecretUnreadable


class Vault:
    """Encrypts values as JSON with the key in `secret.key`, created on first use."""

    def __init__(self, path: Path) -> None:
        self._key = _key(path)
        self._fernet = Fernet(self._key)

    def signing_key(self) -> dict[str, str | list[str]]:
        """Return the private Ed25519 key that follows from the vault's, as a JSON Web Key."""
        derived = HKDF(SHA256(), length=32, salt=None, info=b"receipts").derive(self._key)
        public = Ed25519PrivateKey.from_private_bytes(derived).public_key().public_bytes_raw()
        return {"kty": "OKP", "crv": "Ed25519", "d": _base64(derived), "x": _base64(public)}

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


def _base64(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


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
