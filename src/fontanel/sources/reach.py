"""The one way from a source to the network: names are resolved once, every address is checked, and the address that was
checked is the one connected to. A name that changes its address between check and connection (DNS rebinding) gains nothing.
"""

from __future__ import annotations

import socket
import ssl
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from typing import Any

import certifi
import httpcore
import httpx

from fontanel.sources.protocol import SettingsRefused, Surroundings

Address = IPv4Address | IPv6Address
Network = IPv4Network | IPv6Network

USER_AGENT = "Fontanel/1 (document sync)"


class NotAllowed(Exception):
    """The host has an address that the operator does not allow."""


def networks(text: str) -> tuple[Network, ...]:
    """The networks in a list separated by commas. Raises ValueError."""
    return tuple(ip_network(part.strip(), strict=False) for part in text.split(",") if part.strip())


def check_address(address: Address, host: str, allowed: Iterable[Network]) -> None:
    """Raises NotAllowed for an address that is not public, unless the operator allows it."""
    plain = address.ipv4_mapped if isinstance(address, IPv6Address) and address.ipv4_mapped else address
    if any(plain in network for network in allowed):
        return
    embedded = (
        plain.sixtofour or (plain.teredo[1] if plain.teredo else None) if isinstance(plain, IPv6Address) else None
    )
    hidden = embedded is not None and not embedded.is_global
    # 64:ff9b::/96 leads to IPv4 addresses through a translator.
    translated = isinstance(plain, IPv6Address) and plain in IPv6Network("64:ff9b::/96")
    if not plain.is_global or plain.is_multicast or hidden or translated:
        raise NotAllowed(
            f"{host} is a private address ({plain}), which the operator does not allow. The operator sets FONTANEL_SOURCE_NETWORKS."
        )


def resolve(host: str, port: int, allowed: Iterable[Network]) -> str:
    """An address of the host that may be connected to. Raises NotAllowed, or OSError when there is no such host."""
    try:
        literal = ip_address(host.strip("[]"))
    except ValueError:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        addresses = [ip_address(str(item[4][0]).split("%")[0]) for item in found]
    else:
        addresses = [literal]
    for address in addresses:
        # One forbidden address among several is enough: a name must not be a way around.
        check_address(address, host, allowed)
    return str(addresses[0])


class _Backend(httpcore.NetworkBackend):
    def __init__(self, allowed: Sequence[Network]) -> None:
        self._allowed = tuple(allowed)
        self._inner = httpcore.SyncBackend()

    def connect_tcp(
        self, host: str, port: int, timeout: float | None = None, local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.NetworkStream:  # fmt: skip
        try:
            address = resolve(host, port, self._allowed)
        except OSError as error:
            raise httpcore.ConnectError(f"There is no host {host}.") from error
        return self._inner.connect_tcp(address, port, timeout, local_address, socket_options)

    def sleep(self, seconds: float) -> None:
        self._inner.sleep(seconds)


class _Transport(httpx.BaseTransport):
    """httpx's requests over connections that are checked."""

    def __init__(self, allowed: Sequence[Network]) -> None:
        context = ssl.create_default_context(cafile=certifi.where())
        self._pool = httpcore.ConnectionPool(
            ssl_context=context, max_connections=32, keepalive_expiry=30, network_backend=_Backend(allowed)
        )

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        assert isinstance(request.stream, httpx.SyncByteStream)
        url = request.url
        with _as_httpx(request):
            response = self._pool.handle_request(
                httpcore.Request(
                    request.method,
                    httpcore.URL(scheme=url.raw_scheme, host=url.raw_host, port=url.port, target=url.raw_path),
                    headers=request.headers.raw, content=request.stream, extensions=request.extensions,
                )
            )  # fmt: skip
        stream: Any = response.stream
        return httpx.Response(
            response.status, headers=response.headers, stream=_Stream(stream, request), extensions=response.extensions
        )

    def close(self) -> None:
        self._pool.close()


class _Stream(httpx.SyncByteStream):
    def __init__(self, stream: Any, request: httpx.Request) -> None:
        self._stream = stream
        self._request = request

    def __iter__(self) -> Iterator[bytes]:
        with _as_httpx(self._request):
            yield from self._stream

    def close(self) -> None:
        self._stream.close()


@contextmanager
def _as_httpx(request: httpx.Request) -> Iterator[None]:
    """Turn the connection pool's errors into httpx's, which callers know."""
    try:
        yield
    except httpcore.TimeoutException as error:
        raise httpx.ReadTimeout(str(error) or "no answer in time", request=request) from error
    except httpcore.ConnectError as error:
        raise httpx.ConnectError(str(error), request=request) from error
    except (httpcore.NetworkError, httpcore.ProtocolError) as error:
        raise httpx.ReadError(str(error) or type(error).__name__, request=request) from error


def http_client(surroundings: Surroundings, **options: Any) -> httpx.Client:
    """An HTTP client that reaches public hosts and those the operator allows. Redirects are followed by the caller alone."""
    headers = {"User-Agent": USER_AGENT, **options.pop("headers", {})}
    return httpx.Client(
        transport=_Transport(surroundings.networks), timeout=surroundings.seconds, headers=headers, **options
    )


def check_url(url: str, field: str, schemes: Sequence[str] = ("https", "http")) -> httpx.URL:
    """The address of a server. Raises SettingsRefused."""
    try:
        parsed = httpx.URL(url)
    except (httpx.InvalidURL, ValueError) as error:
        raise SettingsRefused(field, f"{url[:200]!r} is not an address: {error}.") from error
    if parsed.scheme not in schemes or not parsed.host:
        raise SettingsRefused(field, f"{url[:200]!r} is not an address that begins with {' or '.join(schemes)}://.")
    if parsed.userinfo:
        raise SettingsRefused(field, "Give name and password as credentials, not within the address.")
    return parsed
