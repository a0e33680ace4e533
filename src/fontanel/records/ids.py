"""Ids and secrets: random, with a prefix for their kind."""

from __future__ import annotations

import hashlib
import re
import secrets
import unicodedata
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

_ALPHABET = "23456789abcdefghjkmnpqrstuvwxyz"
_hasher = PasswordHasher(time_cost=2, memory_cost=19 * 1024, parallelism=1)


def new_id(kind: str) -> str:
    """A new random id such as `kb_7c2m...`; `kind` is its prefix."""
    return f"{kind}_{_letters(16)}"


def new_secret(kind: str, length: int = 40) -> str:
    return f"{kind}_{_letters(length)}"


def new_password() -> str:
    """A password that can be read aloud: four groups of four."""
    return "-".join(_letters(4) for _ in range(4))


def _letters(count: int) -> str:
    """Return random letters with equal probability.

    The system is asked once for all of them: each call releases the interpreter lock, which a busy
    service waits for. The spare bits keep the bias below 2**-64.
    """
    number = secrets.randbits(5 * count + 64)
    letters = []
    for _ in range(count):
        number, place = divmod(number, len(_ALPHABET))
        letters.append(_ALPHABET[place])
    return "".join(letters)


def hash_secret(secret: str) -> str:
    """Hash a secret; random ones need no slow hash, and SHA-256 allows lookup by hash."""
    return hashlib.sha256(secret.encode()).hexdigest()


def hash_password(password: str) -> str:
    return _hasher.hash(password)


@cache
def _nobody() -> str:
    """Return a hash to compare with for unknown people, for equal timing."""
    return _hasher.hash(secrets.token_hex(16))


def password_matches(stored: str | None, password: str) -> bool:
    try:
        return _hasher.verify(stored or _nobody(), password) and stored is not None
    except (VerificationError, InvalidHashError):
        return False


def slug_of(name: str) -> str:
    """A short name for addresses: ASCII letters, digits and hyphens."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60] or "kb"
