"""Under which names the application answers, by the address that it listens on."""

import ipaddress
import socket
from collections.abc import Iterable

import psutil
from django.http import HttpRequest


def is_loopback(host: str) -> bool:
    """Say whether only this machine can reach an address."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return False


def bracketed(host: str) -> str:
    """Return an address as it stands in a URL."""
    return f"[{host.strip('[]')}]" if ":" in host else host


def allowed(host: str, names: Iterable[str]) -> list[str]:
    """Return the names that requests may ask for: those given, and the address itself; for all addresses (0.0.0.0, ::) this machine's name and addresses."""
    given = [bracketed(name.strip()) for name in names if name.strip()]
    try:
        everywhere = ipaddress.ip_address(host.strip("[]")).is_unspecified
    except ValueError:
        everywhere = False
    return list(dict.fromkeys([*given, *(_own() if everywhere else [bracketed(host)])]))


def _own() -> list[str]:
    found = [socket.gethostname().lower()]
    for rows in psutil.net_if_addrs().values():
        found += [
            bracketed(row.address)
            for row in rows
            if row.family in (socket.AF_INET, socket.AF_INET6) and "%" not in row.address
        ]
    return found


def address_of(request: HttpRequest) -> str:
    """Return who asks: the address of the connection, or what a trusted proxy says, which the server has put in its place."""
    return request.META.get("REMOTE_ADDR", "")
