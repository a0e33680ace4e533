"""Visitors of a desk whose identity another site signs, as a JSON Web Token (RFC 7519, HS256)."""

from __future__ import annotations

import hashlib
import secrets

import jwt

from fontanel.records.tables import Desk

#: Seconds for which a token may be valid, and by which clocks may differ.
MAX_SECONDS, _LEEWAY = 24 * 3600, 60
_MAX_TOKEN, _MAX_SUBJECT = 4000, 200


class VisitorRefused(Exception):
    """A token does not prove who a visitor is; the message says why, for the site's developers."""


def new_visitor_key() -> str:
    """Return a random key for signing tokens."""
    return "vk_" + secrets.token_urlsafe(32)


def visitor_of(token: str, key: str, desk: Desk) -> str:
    """Return a name for the visitor that a token is about, which is the same each time.

    Args:
        token: With the claims `sub`, `iat`, `exp` and `aud`, which is the desk's id.
        key: The desk's key.

    Raises:
        VisitorRefused: the token is not valid now.
    """
    if len(token) > _MAX_TOKEN:
        raise VisitorRefused("The token is too long.")
    try:
        claims = jwt.decode(
            token,
            key,
            algorithms=["HS256"],
            audience=desk.id,
            leeway=_LEEWAY,
            options={"require": ["sub", "exp", "iat", "aud"]},
        )
    except jwt.ExpiredSignatureError as error:
        raise VisitorRefused("The token has expired.") from error
    except jwt.InvalidAudienceError as error:
        raise VisitorRefused(f"The token's aud is not {desk.id}.") from error
    except jwt.MissingRequiredClaimError as error:
        raise VisitorRefused(f"The token has no {error.claim}.") from error
    except jwt.InvalidTokenError as error:
        raise VisitorRefused("The token is not signed with the desk's key.") from error
    subject = claims["sub"]
    if not isinstance(subject, str) or not 0 < len(subject) <= _MAX_SUBJECT:
        raise VisitorRefused(f"The token's sub is not a text of 1 to {_MAX_SUBJECT} characters.")
    if claims["exp"] - claims["iat"] > MAX_SECONDS + _LEEWAY:
        raise VisitorRefused("The token is valid for more than a day.")
    return hashlib.sha256(f"{desk.id}:visitor:{subject}".encode()).hexdigest()[:24]
