"""What agents say to the service."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

import httpx
from pydantic import ConfigDict, TypeAdapter, ValidationError

from phylax import __version__
from phylax.client.transport.errors import NotAnOrderError
from phylax.client.transport.http import Http
from phylax.core.backups.restore_epochs import HEADER, RestoreEpoch, heard
from phylax.core.ground.machines import MachineFacts
from phylax.core.protocol import Enrolled, Enrolment, GoOn, LeasedProgress, Message, Order, Progress

_ORDER: TypeAdapter[Any] = TypeAdapter(Order, config=ConfigDict(defer_build=True))


def enrol(
    url: str,
    code: str,
    facts: MachineFacts,
    *,
    clear: bool = False,
    certificate: str | None = None,
) -> Enrolled:
    """Become a machine's agent by a one-time code."""
    with Http(url, clear=clear, certificate=certificate) as http:
        return http.post(Enrolled, "/agent/enrolment", Enrolment(code=code, facts=facts))


class AgentLink(Http):
    """One agent's connection, with its own key."""

    def __init__(
        self,
        url: str,
        key: str,
        *,
        told_time: Callable[[datetime], None] | None = None,
        told_records: Callable[[RestoreEpoch], None] | None = None,
        transport: httpx.BaseTransport | None = None,
        clear: bool = False,
        certificate: str | None = None,
    ) -> None:
        """`told_records` is called with the life of the service's records whenever it answers."""
        super().__init__(
            url, key, told_time=told_time, transport=transport, clear=clear, certificate=certificate
        )
        self._told_records = told_records

    def _answered(self, response: httpx.Response) -> None:
        super()._answered(response)
        generation = heard(response.headers.get(HEADER, ""))
        if generation is not None and self._told_records is not None:
            self._told_records(generation)

    def report(self, message: Message, *, age: float | None = None) -> None:
        """Send a message; the service applies it once however often it is sent.

        `age` is how many seconds ago it was written by the machine's running time, where known.
        """
        self.send(
            "POST",
            "/agent/messages",
            body=message,
            params={"age": None if age is None else round(age, 1)},
            headers={"User-Agent": f"phylax-agent/{__version__}"},
        )

    def next_order(self, wait: float) -> Any:
        """The next order, or None where none came within so many seconds.

        NotAnOrderError where the service sends something that is none of the fixed set of kinds.
        """
        response = self.send("GET", "/agent/order", params={"wait": wait}, timeout=wait + 15)
        if response.status_code == 204:
            return None
        try:
            return _ORDER.validate_json(response.content)
        except ValidationError as error:
            raise NotAnOrderError(
                f"the service sent something that is not an order: {error}"
            ) from error

    def progress(self, run_id: int, lease: str, progress: Progress) -> bool:
        """Tell how far a run is; whether to go on."""
        message = LeasedProgress(lease=lease, progress=progress)
        return self.post(GoOn, f"/agent/runs/{run_id}/progress", message).go_on
