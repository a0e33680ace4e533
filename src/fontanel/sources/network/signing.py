"""Signatures of requests to stores that speak the S3 protocol (AWS Signature Version 4, as published in its reference)."""

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
    """The signature of a request. `moment` is `YYYYMMDDTHHMMSSZ`, `scope` is `YYYYMMDD/region/s3/aws4_request`; names of headers
    are in lower case."""
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
