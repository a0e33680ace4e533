"""An OpenID Connect provider: the authorization code flow with PKCE, and back-channel logout.

OpenID Connect Core 1.0 (section 3.1), Discovery 1.0, Back-Channel Logout 1.0, and RFC 7636.
"""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import httpx2
from authlib.common.security import generate_token
from authlib.integrations.base_client import OAuthError
from authlib.integrations.httpx_client import OAuth2Client
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from fontanel.errors import FontanelError, Refused
from fontanel.settings import Settings

_SECONDS = 10.0
#: How long the provider's description is used before it is asked again, in seconds.
_DESCRIBED = 3600.0
#: The shortest time between two requests for its keys, in seconds.
_KEYS_AGAIN = 5.0
#: Signatures with the provider's published keys; never `none` or a shared secret.
_ALGORITHMS = ["RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "EdDSA"]
_LOGOUT = "http://schemas.openid.net/event/backchannel-logout"
#: Seconds by which clocks may differ.
_LEEWAY = 60


class ProviderFailed(FontanelError):
    """The provider cannot be reached, or what it sent cannot be trusted."""


class SignInDenied(FontanelError):
    """The provider did not sign the person in, or the person did not agree."""


@dataclass(frozen=True, slots=True)
class Begun:
    """A sign-in that has begun: where the person is sent, and what their return must match."""

    url: str
    state: str
    nonce: str
    verifier: str


@dataclass(frozen=True, slots=True)
class Identity:
    """Who signed in.

    `subject` is the provider's permanent name of the person, `session` that of the sign-in there.
    """

    subject: str
    session: str | None
    email: str
    email_verified: bool
    name: str
    groups: frozenset[str]


@dataclass(frozen=True, slots=True)
class LoggedOut:
    """Which sign-ins end: those of a session at the provider, or all of a person."""

    id: str
    subject: str | None
    session: str | None


class Provider:
    """A provider, with its description and keys as it publishes them.

    Args:
        settings: Its address, and our client there.

    Raises:
        Refused: the settings are incomplete.
    """

    def __init__(self, settings: Settings) -> None:
        self._issuer = settings.oidc_issuer.rstrip("/")
        self._client_id = settings.oidc_client_id
        self._secret = settings.oidc_client_secret.get_secret_value()
        self._scopes = settings.oidc_scopes
        self._groups_claim = settings.oidc_groups_claim
        self._return_url = f"{settings.origin}/api/v1/session/provider/return"
        self._lock = threading.Lock()
        self._description: tuple[float, dict[str, Any]] | None = None
        self._keys: tuple[float, KeySet] | None = None
        if urlsplit(self._issuer).scheme not in ("http", "https") or not self._client_id:
            raise Refused(
                "FONTANEL_OIDC_ISSUER",
                "Single sign-on needs the provider's address in FONTANEL_OIDC_ISSUER and a client"
                " in FONTANEL_OIDC_CLIENT_ID.",
            )

    def begin(self) -> Begun:
        """Return where a person signs in.

        Raises:
            ProviderFailed: the provider cannot be reached.
        """
        verifier, nonce = generate_token(64), generate_token(32)
        url, state = self._client().create_authorization_url(
            self._described("authorization_endpoint"), code_verifier=verifier, nonce=nonce
        )
        return Begun(url, state, nonce, verifier)

    def finish(self, returned: str, begun: Begun) -> Identity:
        """Return who signed in, from the address that they came back to.

        Raises:
            SignInDenied: they were not signed in.
            ProviderFailed: the provider cannot be reached, or what it sent cannot be trusted.
        """
        client = self._client(begun.state)
        try:
            token = client.fetch_token(
                self._described("token_endpoint"),
                authorization_response=returned,
                code_verifier=begun.verifier,
            )
        except OAuthError as error:
            raise SignInDenied(str(error.description or error.error)) from error
        except httpx2.HTTPError as error:
            raise self._unreachable(error) from error
        claims = self._verified(str(token.get("id_token") or ""), nonce=begun.nonce)
        return self._identity(claims | self._user_info(client, str(claims["sub"])))

    def logged_out(self, token: str) -> LoggedOut:
        """Return whose sign-ins a logout token ends.

        Raises:
            ProviderFailed: it is not a logout token of the provider for this service.
        """
        claims = self._verified(token)
        events = claims.get("events")
        if not isinstance(events, dict) or _LOGOUT not in events or "nonce" in claims:
            raise ProviderFailed("The token is not for logging out.")
        subject, session = claims.get("sub"), claims.get("sid")
        if not (subject or session) or not claims.get("jti"):
            raise ProviderFailed("The token names neither a person nor a session.")
        return LoggedOut(
            str(claims["jti"]),
            None if subject is None else self._subject(str(subject)),
            None if session is None else str(session),
        )

    def _client(self, state: str | None = None) -> OAuth2Client:
        return OAuth2Client(
            self._client_id,
            self._secret or None,
            token_endpoint_auth_method="client_secret_basic" if self._secret else "none",
            scope=self._scopes,
            redirect_uri=self._return_url,
            code_challenge_method="S256",
            state=state,
            timeout=_SECONDS,
        )

    def _identity(self, claims: dict[str, Any]) -> Identity:
        groups = claims.get(self._groups_claim) or []
        groups = [groups] if isinstance(groups, str) else groups
        email = str(claims.get("email") or "").strip().lower()
        name = claims.get("name") or claims.get("preferred_username") or email
        return Identity(
            subject=self._subject(str(claims["sub"])),
            session=None if claims.get("sid") is None else str(claims["sid"]),
            email=email,
            email_verified=claims.get("email_verified") is True,
            name=str(name).strip()[:120],
            groups=frozenset(str(group) for group in groups if isinstance(groups, list)),
        )

    def _subject(self, subject: str) -> str:
        """Return a subject that another provider cannot have."""
        return f"{self._issuer} {subject}"

    def _user_info(self, client: OAuth2Client, subject: str) -> dict[str, Any]:
        """Return what the provider publishes about the person, in addition to the token."""
        endpoint = self._describe().get("userinfo_endpoint")
        if not endpoint:
            return {}
        try:
            response = client.get(endpoint)
            response.raise_for_status()
            info = response.json()
        except (httpx2.HTTPError, ValueError) as error:
            raise self._unreachable(error) from error
        if not isinstance(info, dict) or info.get("sub") != subject:
            raise ProviderFailed("The provider described somebody else than it signed in.")
        return info

    def _verified(self, token: str, nonce: str | None = None) -> dict[str, Any]:
        """Return the claims of a token that the provider signed for this service."""
        claims = self._decoded(token)
        expected: dict[str, Any] = {
            "iss": {"essential": True, "value": self._describe()["issuer"]},
            "aud": {"essential": True, "value": self._client_id},
            "iat": {"essential": True},
        }
        if nonce is not None:
            expected |= {
                "exp": {"essential": True},
                "sub": {"essential": True},
                "nonce": {"essential": True, "value": nonce},
            }
        try:
            jwt.JWTClaimsRegistry(leeway=_LEEWAY, **expected).validate(claims)
        except JoseError as error:
            raise ProviderFailed(f"The provider's token is not valid: {error}.") from error
        audience = claims["aud"]
        if (
            isinstance(audience, list)
            and len(audience) > 1
            and claims.get("azp") != self._client_id
        ):
            raise ProviderFailed("The provider's token is for another client.")
        return claims

    def _decoded(self, token: str) -> dict[str, Any]:
        """Verify a signature; if no key fits, with the keys as they are published now."""
        for again in (False, True):
            try:
                return dict(jwt.decode(token, self._key_set(again=again), _ALGORITHMS).claims)
            except (JoseError, ValueError) as error:
                if again:
                    raise ProviderFailed(f"The provider's token is not valid: {error}.") from error
        raise AssertionError("unreachable")

    def _key_set(self, *, again: bool) -> KeySet:
        with self._lock:
            keys = self._keys
        moment = time.monotonic()
        if keys is not None and (not again or moment - keys[0] < _KEYS_AGAIN):
            return keys[1]
        found = self._get(self._described("jwks_uri"))
        try:
            result = KeySet.import_key_set(found)  # type: ignore[arg-type]
        except (JoseError, ValueError, KeyError) as error:
            raise ProviderFailed("The provider's keys cannot be read.") from error
        with self._lock:
            self._keys = (moment, result)
        return result

    def _described(self, name: str) -> str:
        value = self._describe().get(name)
        if not isinstance(value, str):
            raise ProviderFailed(f"The provider's description has no {name}.")
        return value

    def _describe(self) -> dict[str, Any]:
        with self._lock:
            known = self._description
        if known is not None and time.monotonic() - known[0] < _DESCRIBED:
            return known[1]
        found = self._get(f"{self._issuer}/.well-known/openid-configuration")
        if str(found.get("issuer", "")).rstrip("/") != self._issuer:
            raise ProviderFailed(
                f"The provider calls itself {str(found.get('issuer'))[:200]!r}, not"
                f" {self._issuer!r}."
            )
        with self._lock:
            self._description = (time.monotonic(), found)
        return found

    def _get(self, url: str) -> dict[str, Any]:
        try:
            response = httpx2.get(url, timeout=_SECONDS)
            response.raise_for_status()
            found = response.json()
        except (httpx2.HTTPError, ValueError) as error:
            raise self._unreachable(error) from error
        if not isinstance(found, dict):
            raise ProviderFailed(f"{url} is not a JSON object.")
        return found

    def _unreachable(self, error: Exception) -> ProviderFailed:
        return ProviderFailed(f"The provider {self._issuer} cannot be used: {error}.")
