"""TLS to a checked address, with the certificate verified for the host's name.

Libraries that take one host connect to it and verify it. Ours connect to the address that was
checked, and verify the name that it was resolved from.
"""

from __future__ import annotations

import ssl
from typing import Any

import certifi


class NamedContext(ssl.SSLContext):
    """A client's context that verifies one host's name whatever address is connected to."""

    server_name: str

    def wrap_socket(self, *args: Any, **options: Any) -> ssl.SSLSocket:
        """Begin TLS, for the name."""
        return super().wrap_socket(*args, **{**options, "server_hostname": self.server_name})


def named_context(server_name: str) -> NamedContext:
    """Return a context that trusts the usual authorities, for a host's name."""
    context = NamedContext(ssl.PROTOCOL_TLS_CLIENT)
    context.server_name = server_name
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.load_default_certs()
    context.load_verify_locations(certifi.where())
    return context
