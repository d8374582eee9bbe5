"""A family of calls: what one noun of the shop can be asked."""

from __future__ import annotations

from phylax.client.transport.http import Http

Which = int | str
"""A machine by its number or its tag."""


class Family:
    def __init__(self, http: Http) -> None:
        self._http = http
