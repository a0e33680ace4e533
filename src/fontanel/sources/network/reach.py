"""The only way from a source to the network.

Names are resolved once, every address is checked, and the checked address is the one connected to.
A name that changes its address in between (DNS rebinding) gains nothing.
"""

from __future__ import annotations

import re
import socket
import ssl
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from typing import Any

import certifi
import httpcore
import httpx

from fontanel.errors import FontanelError
from fontanel.sources.protocol import SettingsRefused, SourceLimits

Address = IPv4Address | IPv6Address
Network = IPv4Network | IPv6Network

USER_AGENT = "Fontanel/1 (document sync)"


class ServerTooSlow(httpx.ReadTimeout):
    """The server is too slow; retrying would take as long again."""


class AddressForbidden(FontanelError):
    """The host has an address that the operator does not allow."""


def networks(text: str) -> tuple[Network, ...]:
    """The networks in a list separated by commas. Raises ValueError."""
    return tuple(ip_network(part.strip(), strict=False) for part in text.split(",") if part.strip())


#: Public IPv6 addresses. All others are special: IPv4 in another form (compatible, mapped,
#: translated), local, multicast, segment routing.
_GLOBAL_UNICAST = IPv6Network("2000::/3")
#: Special within that: documentation (RFC 9637), and what older registries count as public.
_SPECIAL = (
    IPv6Network("3fff::/20"),
    IPv4Network("192.88.99.0/24"),
    IPv4Network("192.31.196.0/24"),
    IPv4Network("192.52.193.0/24"),
)
#: The interface identifier of ISATAP (RFC 5214), without its two flag bits; an IPv4 address
#: follows.
_ISATAP = 0x00005EFE


def check_address(address: Address, host: str, allowed: Iterable[Network]) -> None:
    """Check that an address is public, or allowed by the operator.

    Raises:
        AddressForbidden: it is neither.
    """
    plain = (
        address.ipv4_mapped if isinstance(address, IPv6Address) and address.ipv4_mapped else address
    )
    if any(plain in network for network in allowed):
        return
    if not _is_public(plain):
        raise AddressForbidden(
            f"{host} is a private address ({plain}), which the operator does not allow. The"
            " operator sets FONTANEL_SOURCE_NETWORKS."
        )


def _is_public(address: Address) -> bool:
    if (
        not address.is_global
        or address.is_multicast
        or any(address in special for special in _SPECIAL)
    ):
        return False
    if isinstance(address, IPv4Address):
        return True
    if address not in _GLOBAL_UNICAST:
        return False
    embedded = [part for part in (address.sixtofour, *(address.teredo or ())) if part is not None]
    low = int(address) & 0xFFFFFFFFFFFFFFFF
    if (low >> 32) & ~0x03000000 == _ISATAP:
        embedded.append(IPv4Address(low & 0xFFFFFFFF))
    return all(_is_public(part) for part in embedded)


def resolve(host: str, port: int, allowed: Iterable[Network]) -> str:
    """Return an allowed address of the host.

    Raises:
        AddressForbidden: none is allowed.
        OSError: there is no such host.
    """
    try:
        literal = ip_address(host.strip("[]"))
    except ValueError:
        try:
            result = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except UnicodeError as error:
            raise OSError(f"{host!r} is not the name of a host") from error
        addresses = [ip_address(str(item[4][0]).split("%")[0]) for item in result]
    else:
        addresses = [literal]
    for address in addresses:
        # One forbidden address among several is enough: a name must not be a way around.
        check_address(address, host, allowed)
    return str(addresses[0])


#: The minimum average bytes per second of a server, after its grace period.
MIN_RATE = 50_000
#: Seconds between checks whether the caller still waits for the response.
_LOOK = 1.0


class TooSlow(httpcore.ReadTimeout):
    """The server keeps the connection busy but sends next to nothing."""


class _Stream(httpcore.NetworkStream):
    """A connection that ends if the server is slow, or on cancellation.

    A timeout per read alone would let a server that sends a byte a second block a thread for days.
    """

    def __init__(self, inner: httpcore.NetworkStream, limits: SourceLimits) -> None:
        self._inner = inner
        self._limits = limits
        self._waited = 0.0
        self._received = 0

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        self._waited, self._received = 0.0, 0
        self._inner.write(buffer, timeout)

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        began = time.monotonic()
        silent = self._limits.seconds if timeout is None else timeout
        while True:
            if self._limits.stopping():
                raise httpcore.ReadError("Cancelled by the caller.")
            waited = time.monotonic() - began
            left = self._limits.seconds + self._received / MIN_RATE - self._waited - waited
            if left <= 0 and self._received:
                raise TooSlow(f"it sends less than {MIN_RATE // 1000} kB a second")
            if left <= 0 or waited >= silent:
                raise httpcore.ReadTimeout("no answer in time")
            try:
                data = self._inner.read(max_bytes, max(0.01, min(_LOOK, left, silent - waited)))
            except httpcore.ReadTimeout:
                continue
            self._waited += time.monotonic() - began
            self._received += len(data)
            return data

    def start_tls(
        self,
        ssl_context: ssl.SSLContext,
        server_hostname: str | None = None,
        timeout: float | None = None,
    ) -> httpcore.NetworkStream:
        # The handshake reads on its own: past its time the connection is shut under it.
        connection = self._inner.get_extra_info("socket")
        timer = threading.Timer(self._limits.seconds, _shut, (connection,))
        timer.start()
        try:
            return _Stream(
                self._inner.start_tls(ssl_context, server_hostname, timeout), self._limits
            )
        finally:
            timer.cancel()

    def get_extra_info(self, info: str) -> Any:
        return self._inner.get_extra_info(info)

    def close(self) -> None:
        self._inner.close()


def _shut(connection: socket.socket) -> None:
    with suppress(OSError):
        connection.shutdown(socket.SHUT_RDWR)


class _Backend(httpcore.NetworkBackend):
    def __init__(self, limits: SourceLimits) -> None:
        self._limits = limits
        self._inner = httpcore.SyncBackend()

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.NetworkStream:
        try:
            address = resolve(host, port, self._limits.networks)
        except OSError as error:
            raise httpcore.ConnectError(f"There is no host {host}.") from error
        stream = self._inner.connect_tcp(address, port, timeout, local_address, socket_options)
        return _Stream(stream, self._limits)

    def sleep(self, seconds: float) -> None:
        self._inner.sleep(seconds)


class _Transport(httpx.BaseTransport):
    """httpx's requests over connections that are checked."""

    def __init__(self, limits: SourceLimits) -> None:
        context = ssl.create_default_context(cafile=certifi.where())
        self._pool = httpcore.ConnectionPool(
            ssl_context=context,
            max_connections=32,
            keepalive_expiry=30,
            network_backend=_Backend(limits),
        )

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        assert isinstance(request.stream, httpx.SyncByteStream)
        url = request.url
        with _as_httpx(request):
            response = self._pool.handle_request(
                httpcore.Request(
                    request.method,
                    httpcore.URL(
                        scheme=url.raw_scheme, host=url.raw_host, port=url.port, target=url.raw_path
                    ),
                    headers=request.headers.raw,
                    content=request.stream,
                    extensions=request.extensions,
                )
            )
        stream: Any = response.stream
        return httpx.Response(
            response.status,
            headers=response.headers,
            stream=_Body(stream, request),
            extensions=response.extensions,
        )

    def close(self) -> None:
        self._pool.close()


class _Body(httpx.SyncByteStream):
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
    except TooSlow as error:
        raise ServerTooSlow(str(error), request=request) from error
    except httpcore.TimeoutException as error:
        raise httpx.ReadTimeout(str(error) or "no answer in time", request=request) from error
    except httpcore.ConnectError as error:
        raise httpx.ConnectError(str(error), request=request) from error
    except (httpcore.NetworkError, httpcore.ProtocolError) as error:
        raise httpx.ReadError(str(error) or type(error).__name__, request=request) from error


def http_client(source_limits: SourceLimits, **options: Any) -> httpx.Client:
    """Return an HTTP client that only reaches allowed hosts, and follows no redirects."""
    headers = {"User-Agent": USER_AGENT, **options.pop("headers", {})}
    return httpx.Client(
        transport=_Transport(source_limits),
        timeout=source_limits.seconds,
        headers=headers,
        **options,
    )


def origin_of(url: httpx.URL | str) -> str:
    """Scheme, host and port of an address, written in one way."""
    parsed = httpx.URL(url)
    port = parsed.port or {"https": 443, "http": 80}.get(parsed.scheme, 0)
    return f"{parsed.scheme}://{parsed.raw_host.decode('ascii').lower().rstrip('.')}:{port}"


def _is_host(host: str) -> bool:
    """Return whether it is an IP address, or a resolvable name.

    ASCII labels and hyphens.
    """
    try:
        ip_address(host.strip("[]"))
    except ValueError:
        labels = host.removesuffix(".").split(".")
        return len(host) <= 253 and all(_LABEL.fullmatch(label) for label in labels)
    return True


_LABEL = re.compile(r"[A-Za-z0-9_](?:[A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?")


def check_url(url: str, field: str, schemes: Sequence[str] = ("https", "http")) -> httpx.URL:
    """The address of a server. Raises SettingsRefused."""
    try:
        parsed = httpx.URL(url)
    except (httpx.InvalidURL, ValueError, UnicodeError) as error:
        raise SettingsRefused(field, f"{url[:200]!r} is not an address: {error}.") from error
    if parsed.scheme not in schemes or not parsed.host:
        raise SettingsRefused(
            field, f"{url[:200]!r} is not an address that begins with {' or '.join(schemes)}://."
        )
    host = parsed.raw_host.decode("ascii", "replace")
    if not _is_host(host):
        raise SettingsRefused(field, f"{host[:100]!r} is not the name of a host.")
    if parsed.userinfo:
        raise SettingsRefused(field, "Enter name and password as credentials, not in the address.")
    return parsed
