"""Signatures of requests to S3 stores (AWS Signature Version 4, as published)."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Mapping, Sequence
from urllib.parse import quote, unquote

ALGORITHM = "AWS4-HMAC-SHA256"
EMPTY = hashlib.sha256(b"").hexdigest()


def canonical_query(pairs: Sequence[tuple[str, str]]) -> str:
    return "&".join(f"{quote(k, safe='-_.~')}={quote(v, safe='-_.~')}" for k, v in sorted(pairs))


def canonical_path(path: str) -> str:
    """A path, percent-encoded once over."""
    return quote(unquote(path), safe="/-_.~") or "/"


def sign(
    secret: str,
    method: str,
    path: str,
    query: Sequence[tuple[str, str]],
    headers: Mapping[str, str],
    signed: Sequence[str],
    payload_hash: str,
    moment: str,
    scope: str,
) -> str:
    """Return the signature of a request.

    Args:
        moment: `YYYYMMDDTHHMMSSZ`.
        scope: `YYYYMMDD/region/s3/aws4_request`.
        headers: With names in lower case.
    """
    lines = "".join(f"{name}:{' '.join(headers[name].split())}\n" for name in signed)
    request = "\n".join(
        [
            method,
            canonical_path(path),
            canonical_query(query),
            lines,
            ";".join(signed),
            payload_hash,
        ]
    )
    text = "\n".join([ALGORITHM, moment, scope, hashlib.sha256(request.encode()).hexdigest()])
    key = f"AWS4{secret}".encode()
    for part in scope.split("/"):
        key = hmac.new(key, part.encode(), hashlib.sha256).digest()
    return hmac.new(key, text.encode(), hashlib.sha256).hexdigest()
