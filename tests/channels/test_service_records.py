"""Service records: the servers of a chat domain, from a name server on this machine."""

from __future__ import annotations

import functools
import socketserver
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from ipaddress import ip_network
from pathlib import Path

import dns.message
import dns.rcode
import dns.rrset
import pytest
from dns.resolver import Resolver

from fontanel.channels import xmpp
from fontanel.channels.protocol import ChannelUnavailable
from fontanel.channels.service_records import servers_of
from fontanel.sources.protocol import SourceLimits
from tests.channels.chatting import ACCOUNT, chat_server
from tests.conftest import free_port

SERVICE = "_xmpp-client._tcp"


class _Handler(socketserver.BaseRequestHandler):
    def handle(self) -> None:
        data, socket = self.request
        query = dns.message.from_wire(data)
        reply = dns.message.make_response(query)
        records = self.server.records  # type: ignore[attr-defined]
        if records:
            reply.answer = [dns.rrset.from_text(query.question[0].name, 60, "IN", "SRV", *records)]
        else:
            reply.set_rcode(dns.rcode.NXDOMAIN)
        socket.sendto(reply.to_wire(), self.client_address)


@contextmanager
def name_server(*records: str) -> Iterator[Resolver]:
    """Run a name server that answers every question with these records."""
    with socketserver.UDPServer(("127.0.0.1", 0), _Handler) as server:
        server.records = records  # type: ignore[attr-defined]
        threading.Thread(target=server.serve_forever, daemon=True).start()
        resolver = Resolver(configure=False)
        resolver.nameservers, resolver.port = ["127.0.0.1"], server.server_address[1]
        yield resolver
        server.shutdown()


def test_servers_are_tried_by_priority() -> None:
    records = ("20 0 5269 last.skerrow.example.", "5 0 5222 first.skerrow.example.")
    with name_server(*records) as resolver:
        found = servers_of("skerrow.example", SERVICE, 5222, 5, resolver)
    assert found == [("first.skerrow.example", 5222), ("last.skerrow.example", 5269)]


def test_a_domain_without_records_is_its_own_server() -> None:
    with name_server() as resolver:
        assert servers_of("skerrow.example", SERVICE, 5222, 5, resolver) == [
            ("skerrow.example", 5222)
        ]
    # Nobody listens there any more.
    assert servers_of("skerrow.example", SERVICE, 5222, 0.2, resolver) == [
        ("skerrow.example", 5222)
    ]
    assert servers_of("a" * 64 + ".example", SERVICE, 5222, 0.2, resolver) == [
        ("a" * 64 + ".example", 5222)
    ]


def test_a_domain_that_offers_no_service() -> None:
    with (
        name_server("0 0 0 .") as resolver,
        pytest.raises(ChannelUnavailable, match="offers no service") as problem,
    ):
        servers_of("skerrow.example", SERVICE, 5222, 5, resolver)
    assert not problem.value.again


def test_the_next_server_is_tried_when_the_first_is_away(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    received = threading.Event()
    with chat_server(tmp_path) as chat:
        records = (f"1 0 {free_port()} localhost.", f"2 0 {chat.port} localhost.")
        with name_server(*records) as resolver:
            monkeypatch.setattr(
                xmpp, "servers_of", functools.partial(servers_of, resolver=resolver)
            )
            channel = xmpp.XmppChannel(
                xmpp.XmppSettings(jid=ACCOUNT),
                xmpp.XmppCredentials(password="tide-table"),
                SourceLimits(networks=(ip_network("127.0.0.0/8"), ip_network("::1/128"))),
                "",
            )
            # What is taken first is the position, once the account is connected.
            channel.receive(lambda messages, position: received.set(), received.is_set)
    assert received.is_set()
