"""Compressing and encrypting what a backup stores.

With a passphrase, objects are encrypted with AES-256-GCM, and named by an HMAC of their content, so
that neither contents nor hashes of known documents can be found in the place. The key is derived
with scrypt (RFC 7914), and split with HKDF (RFC 5869).
"""

from __future__ import annotations

import hashlib
import hmac
import os
import zlib

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from fontanel.engine.backup.places import BackupFailed

_PLAIN, _COMPRESSED = b"\x00", b"\x01"
_NONCE = 12
#: Compressing must save this much to be worth it.
_WORTH = 0.95


class Sealing:
    """Turns contents into objects and back; without a key they are only compressed."""

    def __init__(self, passphrase: str = "", salt: bytes = b"") -> None:
        self._cipher: AESGCM | None = None
        self._naming = b""
        if passphrase:
            root = Scrypt(salt=salt, length=32, n=2**15, r=8, p=1).derive(passphrase.encode())
            self._cipher = AESGCM(_part(root, b"contents"))
            self._naming = _part(root, b"names")

    @property
    def encrypted(self) -> bool:
        """Whether there is a key."""
        return self._cipher is not None

    def name(self, sha256: str) -> str:
        """Return the name of the object with a content of this SHA-256."""
        if self._cipher is None:
            return sha256
        return hmac.new(self._naming, bytes.fromhex(sha256), hashlib.sha256).hexdigest()

    def seal(self, content: bytes) -> bytes:
        """Return a content as an object."""
        packed = zlib.compress(content, 1)
        plain = _COMPRESSED + packed if len(packed) < _WORTH * len(content) else _PLAIN + content
        if self._cipher is None:
            return plain
        nonce = os.urandom(_NONCE)
        return nonce + self._cipher.encrypt(nonce, plain, None)

    def open(self, stored: bytes) -> bytes:
        """Return the content of an object.

        Raises:
            BackupFailed: it is damaged, or was encrypted with another key.
        """
        try:
            plain = (
                self._cipher.decrypt(stored[:_NONCE], stored[_NONCE:], None)
                if self._cipher is not None
                else stored
            )
            return zlib.decompress(plain[1:]) if plain[:1] == _COMPRESSED else plain[1:]
        except (InvalidTag, ValueError, zlib.error) as error:
            raise BackupFailed(
                "An object of the backup is damaged, or was encrypted with another key."
            ) from error


def _part(root: bytes, what: bytes) -> bytes:
    return HKDF(algorithm=SHA256(), length=32, salt=None, info=what).derive(root)
