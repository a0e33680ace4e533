"""Service records (SRV, RFC 2782): the servers that a domain names for a service."""

from __future__ import annotations

import dns.name
from dns.exception import DNSException
from dns.rdtypes.IN.SRV import SRV
from dns.resolver import Resolver

from fontanel.channels.protocol import ChannelUnavailable


def servers_of(
    domain: str, service: str, port: int, seconds: float, resolver: Resolver | None = None
) -> list[tuple[str, int]]:
    """Return the hosts and ports of a domain's service, the one to try first at the front.

    A domain without records is its own server (RFC 6120, section 3.2.1), and so is one whose
    name server does not answer.

    Args:
        service: Such as `_xmpp-client._tcp`.
        port: The port if there are no records.
        seconds: How long to wait for the name server.
        resolver: Whom to ask; by default the name servers of the machine.

    Raises:
        ChannelUnavailable: the domain declares that it does not offer the service.
    """
    try:
        resolver = resolver or Resolver()
        answer = resolver.resolve(f"{service}.{domain}", "SRV", lifetime=seconds)
    except (DNSException, OSError):
        return [(domain, port)]
    if answer.rrset is None:
        return [(domain, port)]
    servers = [
        (record.target.to_text(omit_final_dot=True), record.port)
        for record in answer.rrset.processing_order()
        if isinstance(record, SRV) and record.target != dns.name.root
    ]
    if not servers:
        raise ChannelUnavailable(f"The domain {domain} offers no service {service}.", again=False)
    return servers
