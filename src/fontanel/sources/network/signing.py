"""Signatures of requests to S3 stores (AWS Signature Version 4, as published)."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from urllib.parse import quote, unquote

ALGORITHM = "AWS4-HMAC-SHA256"
EMPTY = hashlib.sha256(b"").hexdigest()


@dataclass(frozen=True, slots=True)
class BucketKey:
    """The key of a store, and its region."""

    access_key: str
    secret_key: str
    region: str
    session_token: str = ""


def signed_headers(
    key: BucketKey,
    method: str,
    host: str,
    path: str,
    query: Sequence[tuple[str, str]] = (),
    payload_hash: str = EMPTY,
) -> dict[str, str]:
    """Return the headers of a request that is signed now.

    Args:
        host: The host as the request names it, with its port.
        path: The path, percent-encoded.
        payload_hash: The SHA-256 of the body.
    """
    moment = datetime.now(UTC).strftime("%Y%m%dT%H%M%SZ")
    scope = f"{moment[:8]}/{key.region}/s3/aws4_request"
    headers = {"host": host, "x-amz-content-sha256": payload_hash, "x-amz-date": moment}
    if key.session_token:
        headers["x-amz-security-token"] = key.session_token
    names = sorted(headers)
    made = sign(key.secret_key, method, path, query, headers, names, payload_hash, moment, scope)
    text = f"Credential={key.access_key}/{scope}, SignedHeaders={';'.join(names)}, Signature={made}"
    return {**headers, "authorization": f"{ALGORITHM} {text}"}


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
