"""Which addresses a store may have, after resolving."""

from __future__ import annotations

import ipaddress
from typing import NamedTuple

from pinecart.core.errors import Refused

# Where providers of machines tell them about themselves, keys and all, outside the link-local
# networks: the metadata and internal services of several clouds, from their own manuals, and the
# IETF's protocol assignments (RFC 6890).
INTERNAL = [
    ipaddress.ip_network(n)
    for n in (
        "100.100.100.200/32",
        "168.63.129.16/32",
        "192.0.0.0/24",
        "fd00:ec2::/32",
        "fd20:ce::/32",
        "0.0.0.0/8",
    )
]


_NAT64 = ipaddress.ip_network("64:ff9b::/96")  # RFC 6052


def _within(ip: ipaddress.IPv4Address | ipaddress.IPv6Address) -> ipaddress.IPv4Address | None:
    """The IPv4 address that an IPv6 one leads to: mapped (RFC 4291), translated (RFC 6052), 6to4
    (RFC 3056), compatible.
    """
    if isinstance(ip, ipaddress.IPv4Address):
        return None
    if ip in _NAT64 or (int(ip) < 1 << 32 and int(ip) > 1):
        return ipaddress.IPv4Address(int(ip) & 0xFFFFFFFF)
    return ip.ipv4_mapped or ip.sixtofour


class Allowed(NamedTuple):
    """Which addresses of this machine may be asked, as networks; loopback is refused unless it is
    in one of them.
    """

    networks: tuple[str, ...] = ()

    def check(self, address: str) -> None:
        """Raises Refused for what is of this machine or its provider, and addresses that are no
        host's.
        """
        text, _, _ = address.partition("%")
        ip = ipaddress.ip_address(text)
        ip = _within(ip) or ip
        if any(ip in ipaddress.ip_network(n) for n in self.networks):
            return
        never = ip.is_loopback or ip.is_link_local or ip.is_unspecified or ip.is_multicast
        if never or any(ip in network for network in INTERNAL):
            message = (
                f"The address {address} is not allowed: loopback, link-local and providers' "
                "internal addresses are refused. "
            )
            message += f"If it is meant, start the service with --allow-address {address}."
            raise Refused(message, code="store.address-refused")
