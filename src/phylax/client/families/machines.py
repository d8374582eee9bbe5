"""Clients and their machines."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Literal

from phylax.client.families.family import Family, Which
from phylax.client.transport.errors import PhylaxError
from phylax.core.clients.decommissioning import Retire, Retirement
from phylax.core.clients.facts import Fact
from phylax.core.clients.labels import Label
from phylax.core.clients.machine_list import MachineSort
from phylax.core.clients.shop import Client, ClientEdit, EnrolmentCode, Machine, MachineEdit
from phylax.core.erasing.forgetting.request import Forget, ForgetOutlook, Forgetting
from phylax.core.ground.machines import System
from phylax.core.ground.suggestions import did_you_mean
from phylax.core.ground.values import edit_of
from phylax.core.retention import RuleInForce
from phylax.core.retention.consents import Consent
from phylax.core.scheduling.presence import Presence
from phylax.core.scheduling.rounds import Round
from phylax.core.survey import Ledger, Survey
from phylax.core.trends import FreeLine, Outlook, Regrowth, Trend, TrendPoint

_OUTLOOKS: type[list[Outlook]] = list[Outlook]
_REGROWTHS: type[list[Regrowth]] = list[Regrowth]
_POINTS: type[list[TrendPoint]] = list[TrendPoint]
_NUMBERS: type[list[int]] = list[int]
_MACHINES: type[list[Machine]] = list[Machine]
"""`list` is a method's name below."""
_FACTS: type[list[Fact]] = list[Fact]
_FORGETTINGS: type[list[Forgetting]] = list[Forgetting]
_LABELS: type[list[Label]] = list[Label]
_ROWS = 200
"""Machines asked for at once by their numbers."""


class Clients(Family):
    """The shop's clients. `find` raises PhylaxError where there is none of that name.

    Example::

        office = shop.clients.find("Skerry Ferry Office")
        shop.clients.change(office, edit_of(ClientEdit, office, phone="01 555 0142"))
    """

    def list(self, *, words: str = "", retired: bool = False) -> Iterator[Client]:
        """Clients in care, or retired; with all of some words in name, contact, mail or phone."""
        return self._http.pages(Client, "/clients", words=words or None, retired=retired or None)

    def get(self, client_id: int) -> Client:
        """One, by number. NotFoundError."""
        return self._http.get(Client, f"/clients/{client_id}")

    def find(self, which: Which) -> Client:
        """A client by number or name."""
        if isinstance(which, int) or which.isdecimal():
            return self.get(int(which))
        names = []
        for retired in (False, True):
            for client in self.list(retired=retired):
                if client.name.casefold() == which.casefold():
                    return client
                names.append(client.name)
        raise PhylaxError(f"There is no client {which!r}{did_you_mean(which, names)}")

    def add(self, edit: ClientEdit) -> Client:
        """A new client. RefusedError where the name is taken."""
        return self._http.post(Client, "/clients", edit)

    def change(self, client: Client, edit: ClientEdit) -> Client:
        """Change a client as it was read; ChangedMeanwhileError where somebody was faster."""
        return self._http.put(Client, f"/clients/{client.id}", edit, client.version)

    def set_threshold(self, client: Client, percent: int | None) -> Client:
        """From how full on its machines' volumes are nearly full; None: as the shop says."""
        return self.change(client, edit_of(ClientEdit, client, threshold_percent=percent))

    def retirement(self, client_id: int) -> Retirement:
        """What retiring a client with all its machines means; retired: what returning means."""
        return self._http.get(Retirement, f"/clients/{client_id}/retirement")

    def retire(self, client: Client, why: str = "") -> Client:
        """A client with all its machines is not looked after any more."""
        path = f"/clients/{client.id}/retire"
        return self._http.post(Client, path, Retire(why=why), version=client.version)

    def what_forgetting_means(self, client_id: int) -> ForgetOutlook:
        """What would be deleted for good, and what stays."""
        return self._http.get(ForgetOutlook, f"/clients/{client_id}/forgetting")

    def forget(self, client: Client, asked: Forget) -> Forgetting:
        """Forget a client who is retired, for good; it is carried out in the background."""
        path = f"/clients/{client.id}/forgetting"
        return self._http.post(Forgetting, path, asked, version=client.version)

    def call_forgetting_off(self, client_id: int) -> None:
        """So long as it has not begun."""
        self._http.delete(f"/clients/{client_id}/forgetting")

    def forgettings(self) -> Sequence[Forgetting]:
        """Those that are to be forgotten, or were; the newest first."""
        return self._http.get(_FORGETTINGS, "/forgettings")

    def bring_back(self, client: Client) -> Client:
        """With the machines that were retired with it."""
        path = f"/clients/{client.id}/return"
        return self._http.post(Client, path, version=client.version)


class Machines(Family):
    """Clients' computers, each by its number or its tag. NotFoundError says which tag was most
    likely meant.

    Example::

        ledger = shop.machines.ledger("ferry-desk")
        print(ledger.goes.size)
    """

    def list(
        self,
        *,
        client_id: int | None = None,
        words: str = "",
        systems: Sequence[System] = (),
        nearly_full: bool = False,
        without_round: bool = False,
        not_enrolled: bool = False,
        retired: bool = False,
        sort: MachineSort = MachineSort.NUMBER,
        descending: bool = False,
    ) -> Iterator[Machine]:
        """Machines chosen by all that is given, sorted; what is not known comes last."""
        chosen: dict[str, object] = {
            "client_id": client_id,
            "words": words or None,
            "system": [*systems] or None,
            "nearly_full": nearly_full or None,
            "without_round": without_round or None,
            "not_enrolled": not_enrolled or None,
            "retired": retired or None,
        }
        if sort is MachineSort.NUMBER and not descending:
            yield from self._http.pages(Machine, "/machines", **chosen)
            return
        numbers = self._http.get(
            _NUMBERS, "/machines/numbers", **chosen, sort=sort, descending=descending
        )
        for first in range(0, len(numbers), _ROWS):
            yield from self._http.get(
                _MACHINES, "/machines", machine_id=numbers[first : first + _ROWS]
            )

    def get(self, which: Which) -> Machine:
        """One, by number or tag. NotFoundError."""
        return self._http.get(Machine, f"/machines/{which}")

    def add(self, edit: MachineEdit) -> Machine:
        """A new machine of a client. RefusedError where the tag is taken."""
        return self._http.post(Machine, "/machines", edit)

    def change(self, machine: Machine, edit: MachineEdit) -> Machine:
        """Change a machine as it was read; ChangedMeanwhileError where somebody was faster."""
        return self._http.put(Machine, f"/machines/{machine.id}", edit, machine.version)

    def set_threshold(self, machine: Machine, percent: int | None) -> Machine:
        """From how full on its volumes are nearly full; None: as the client or the shop says."""
        return self.change(machine, edit_of(MachineEdit, machine, threshold_percent=percent))

    def enrolment_code(self, which: Which) -> EnrolmentCode:
        """A one-time code for an agent on the machine."""
        return self._http.post(EnrolmentCode, f"/machines/{which}/enrolment-code")

    def withdraw_agent(self, which: Which) -> None:
        """Its key counts no more; a new code enrols it again."""
        self._http.delete(f"/machines/{which}/agent")

    def facts(self, which: Which) -> Sequence[Fact]:
        """What is known of what a machine is: by people, and beside it as its agent read."""
        return self._http.get(_FACTS, f"/machines/{which}/facts")

    def labels(self, machine_ids: Sequence[int], console: str) -> Sequence[Label]:
        """Labels to print; `console` is where people open it, as ``https://shop.example``."""
        return self._http.get(_LABELS, "/labels", machine_id=list(machine_ids), console=console)

    def retirement(self, which: Which) -> Retirement:
        """What retiring a machine means as things stand; retired: what returning means."""
        return self._http.get(Retirement, f"/machines/{which}/retirement")

    def retire(self, machine: Machine, why: str = "") -> Machine:
        """The shop looks after a machine no more; its agent may not call."""
        path = f"/machines/{machine.id}/retire"
        return self._http.post(Machine, path, Retire(why=why), version=machine.version)

    def bring_back(self, machine: Machine) -> Machine:
        """Its rounds run there again; its agent is enrolled anew."""
        path = f"/machines/{machine.id}/return"
        return self._http.post(Machine, path, version=machine.version)

    def ledger(self, which: Which) -> Ledger:
        """what would be removed and what is kept, as the newest survey found it."""
        return self._http.get(Ledger, f"/machines/{which}/ledger")

    def surveys(self, which: Which) -> Iterator[Survey]:
        """Newest first."""
        return self._http.pages(Survey, f"/machines/{which}/surveys")

    def rules(self, which: Which) -> dict[str, RuleInForce]:
        """The rule in force for each category, and where each part comes from."""
        return self._http.get(dict[str, RuleInForce], f"/machines/{which}/rules")

    def rounds(self, which: Which) -> Sequence[Round]:
        """The rounds that a machine belongs to."""
        return self._http.get(list[Round], f"/machines/{which}/rounds")

    def presence(self, which: Which) -> Presence:
        """When a machine is usually on, by hour of the week."""
        return self._http.get(Presence, f"/machines/{which}/presence")

    def consents(self, which: Which) -> Iterator[Consent]:
        """What was agreed to on a machine, newest first."""
        return self._http.pages(Consent, f"/machines/{which}/consents")

    def trend(
        self,
        which: Which,
        *,
        mount: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        points: int = 300,
    ) -> Trend:
        """Free space of one volume (the fullest by default) over a span, cleanings marked."""
        return self._http.get(
            Trend,
            f"/machines/{which}/trend",
            mount=mount,
            since=since and since.isoformat(),
            until=until and until.isoformat(),
            points=points,
        )

    def outlooks(self, which: Which) -> Sequence[Outlook]:
        """What can be said of each volume."""
        return self._http.get(_OUTLOOKS, f"/machines/{which}/outlooks")

    def regrowth(self, which: Which) -> Sequence[Regrowth]:
        """How each category comes back after a cleaning, fastest first."""
        return self._http.get(_REGROWTHS, f"/machines/{which}/regrowth")

    def readings(
        self,
        which: Which,
        *,
        mount: str | None = None,
        since: datetime | None = None,
        by: Literal["hour", "day"] = "day",
    ) -> Sequence[TrendPoint]:
        """Every reading of one volume, as it came (90 days back) or a line a day."""
        return self._http.get(
            _POINTS,
            f"/machines/{which}/readings",
            mount=mount,
            since=since and since.isoformat(),
            by=by,
        )

    def free_lines(self, machine_ids: Sequence[int], *, days: int = 90) -> Sequence[FreeLine]:
        """The share free over some days, for small drawings; at most 200 machines."""
        return self._http.get(
            list[FreeLine], "/machines/free-lines", machine_id=list(machine_ids), days=days
        )
