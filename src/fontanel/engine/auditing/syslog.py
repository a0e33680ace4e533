"""Syslog messages (RFC 5424), and sending them over UDP, TCP or TLS.

The standard library's handler writes the older format (RFC 3164), without structured data.
"""

from __future__ import annotations

import json
import os
import socket
import ssl
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlsplit

from fontanel.errors import Refused

#: Facility 13, "log audit"; severities notice and warning.
_FACILITY, _NOTICE, _WARNING = 13, 5, 4
#: The private enterprise number that RFC 5612 reserves for examples.
_ENTERPRISE = 32473
_SECONDS = 10.0
_DEFAULT_PORTS = {"udp": 514, "tcp": 601, "tls": 6514}


def message(entry: Mapping[str, Any], host: str) -> bytes:
    """Return an entry as a syslog message: its main fields as structured data, all as JSON."""
    severity = _WARNING if entry["outcome"] == "refused" else _NOTICE
    names = ("log", "number", "actor_kind", "actor_id", "action", "target", "outcome", "request_id")
    data = " ".join(f'{name}="{_escape(str(entry[name] or ""))}"' for name in names)
    head = f"<{_FACILITY * 8 + severity}>1 {entry['at']} {_word(host, 255)} fontanel {os.getpid()}"
    body = json.dumps(entry, ensure_ascii=False)
    return f"{head} {_word(entry['action'], 32)} [audit@{_ENTERPRISE} {data}] \ufeff{body}".encode()


def _escape(value: str) -> str:
    """Escape a value of structured data (RFC 5424, section 6.3.3)."""
    return value.replace("\\", r"\\").replace('"', r"\"").replace("]", r"\]")


def _word(text: str, size: int) -> str:
    return "".join(c for c in text if "!" <= c <= "~")[:size] or "-"


class SyslogServer:
    """A server that messages are sent to.

    Args:
        address: `udp://host:port`, `tcp://host:port` or `tls://host:port`.

    Raises:
        Refused: the address cannot be used.
    """

    def __init__(self, address: str) -> None:
        try:
            parts = urlsplit(address)
            self._scheme, self._host = parts.scheme, parts.hostname or ""
            self._port = parts.port or _DEFAULT_PORTS.get(parts.scheme, 0)
        except ValueError as error:
            raise _not_an_address(address) from error
        if self._scheme not in _DEFAULT_PORTS or not self._host:
            raise _not_an_address(address)
        self._socket: socket.socket | None = None

    def send(self, messages: list[bytes]) -> None:
        """Send messages; one that was not sent as a whole is sent again by the caller.

        Over TCP and TLS each has its length before it (RFC 6587, section 3.4.1; RFC 5425).

        Raises:
            OSError: the server cannot be reached.
        """
        try:
            connection = self._socket = self._socket or self._connect()
            if self._scheme == "udp":
                for one in messages:
                    connection.send(one)
            else:
                connection.sendall(b"".join(b"%d %s" % (len(one), one) for one in messages))
        except OSError:
            self.close()
            raise

    def close(self) -> None:
        """Close the connection."""
        if self._socket is not None:
            self._socket.close()
            self._socket = None

    def _connect(self) -> socket.socket:
        if self._scheme == "udp":
            family, kind, protocol, _, address = socket.getaddrinfo(
                self._host, self._port, type=socket.SOCK_DGRAM
            )[0]
            connection = socket.socket(family, kind, protocol)
            connection.connect(address)
            return connection
        connection = socket.create_connection((self._host, self._port), timeout=_SECONDS)
        if self._scheme == "tls":
            context = ssl.create_default_context()
            return context.wrap_socket(connection, server_hostname=self._host)
        return connection


def _not_an_address(address: str) -> Refused:
    return Refused(
        "FONTANEL_AUDIT_SYSLOG",
        f"{address[:200]!r} is not the address of a syslog server: write tcp://HOST:PORT,"
        " tls://HOST:PORT or udp://HOST:PORT.",
    )
