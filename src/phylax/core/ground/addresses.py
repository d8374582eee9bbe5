"""Addresses of hosts and of mail."""

from __future__ import annotations

from ipaddress import ip_address
from typing import Annotated

from pydantic import AfterValidator, Field


def is_loopback(host: str) -> bool:
    """Whether a host name or address is this machine's own."""
    try:
        return host == "localhost" or ip_address(host).is_loopback
    except ValueError:
        return False


def _address(text: str) -> str:
    local, at, domain = text.strip().rpartition("@")
    allowed = not any(c.isspace() or c in "<>,;:\"'\\" for c in text.strip())
    if not (local and at and "." in domain.strip(".") and allowed):
        raise ValueError(f"{text!r} is not a mail address such as wren@quayside.example")
    return text.strip()


MailAddress = Annotated[
    str, Field(max_length=200, examples=["wren@quayside.example"]), AfterValidator(_address)
]
