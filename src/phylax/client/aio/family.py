# Written by tools/aio.py from client/families/family.py; change that one.
# ruff: noqa
"""A family of calls: what one noun of the shop can be asked."""

from __future__ import annotations
from phylax.client.transport.async_http import AsyncHttp

Which = int | str
"A machine by its number or its tag."


class Family:
    def __init__(self, http: AsyncHttp) -> None:
        self._http = http
