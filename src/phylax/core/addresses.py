"""Addresses of hosts."""

from __future__ import annotations

from ipaddress import ip_address


def is_loopback(host: str) -> bool:
    """Whether a host name or address is this machine's own."""
    try:
        return host == "localhost" or ip_address(host).is_loopback
    except ValueError:
        return False
