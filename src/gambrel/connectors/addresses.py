"""Which addresses may be asked as sources: the networks and ports that an administrator allowed."""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from gambrel.connectors.asking import SourceError

USUAL = "127.0.0.0/8 ::1/128 10.0.0.0/8 172.16.0.0/12 192.168.0.0/16 fc00::/7"
"""The networks that no public router knows (RFC 1918, RFC 4193) and this machine, any port."""

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


@dataclass(frozen=True, slots=True)
class Allowed:
    """One network and the ports of it that may be asked; no ports: all."""

    network: Network
    ports: frozenset[int] = frozenset()


def allowed_from(text: str) -> tuple[Allowed, ...]:
    """Read networks as "10.1.0.0/16 10.2.0.0/16=443,8443", separated by blanks.

    Raises:
        ValueError: that names what cannot be read.
    """
    found = []
    for part in text.split():
        network, _, ports = part.partition("=")
        try:
            numbers = frozenset(int(port) for port in ports.split(",") if ports)
            found.append(Allowed(ipaddress.ip_network(network), numbers))
        except ValueError:
            raise ValueError(
                f"{part!r} is not a network such as 10.1.0.0/16 or 10.2.0.0/16=443,8443"
            ) from None
    return tuple(found)


def wrong_address(address: str) -> str | None:
    """Why a text cannot be the address of a source; None where it can."""
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError:
        return "is not an address such as https://host-1:8443"
    if parts.scheme not in ("http", "https") or not parts.hostname or port == 0:
        return "is not an address such as https://host-1:8443"
    if parts.username is not None or parts.password is not None:
        return "holds a user or a password; enter them as an account instead"
    if parts.query or parts.fragment:
        return "has something after ? or #; leave it out"
    return None


def check_allowed(address: str, allowed: Sequence[Allowed]) -> None:
    """Look up where an address leads. Raises SourceError unless all of it is allowed."""
    parts = urlsplit(address)
    port = parts.port or (443 if parts.scheme == "https" else 80)
    try:
        known = socket.getaddrinfo(parts.hostname, port, type=socket.SOCK_STREAM)
    except OSError:
        raise SourceError(
            f"No machine is known by the name {parts.hostname}.", "Check the address."
        ) from None
    for *_, place in known:
        found = ipaddress.ip_address(str(place[0]).partition("%")[0])
        if not any(
            found in each.network and (not each.ports or port in each.ports) for each in allowed
        ):
            raise SourceError(
                f"{found}, port {port}, is not among the networks that sources may be in.",
                "Ask the administrator of this server to allow it (GAMBREL_SOURCE_NETWORKS).",
            )
