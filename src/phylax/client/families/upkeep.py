"""What machines have and lack, actions on them, before and after, advice."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime

from phylax.client.families.family import Family, Which
from phylax.core.actions import Action, ActionPart
from phylax.core.clients.shop import Machine
from phylax.core.desk.advice import AdviceEdit, AdviceStatus, AdviceStep, GivenAdvice
from phylax.core.inventory import Inventory
from phylax.core.inventory.programs import ProgramOnMachine
from phylax.core.inventory.updates import MissingUpdate
from phylax.core.protocol.snapshots import Comparison
from phylax.core.runs.runs import NewRun, Run


class Upkeep(Family):
    """Long work on machines beyond cleaning and settings.

    Example::

        rows = shop.upkeep.installed("office", unused_days=180)
    """

    def act(
        self, machine: Which, action: Action, *, comment: str = "", at: datetime | None = None
    ) -> Run:
        """Have something of the fixed set done, as soon as the machine calls or at a time."""
        number = self._http.get(Machine, f"/machines/{machine}").id
        new = NewRun(machine_id=number, work="act", action=action, comment=comment, at=at)
        return self._http.post(Run, "/runs", new)

    def acted(self, run_id: int) -> Sequence[ActionPart]:
        """What became of a run's actions, part by part."""
        return self._http.get(list[ActionPart], f"/runs/{run_id}/acted")

    def inventories(self, machine: Which) -> Sequence[Inventory]:
        """The newest list of each kind that could be read."""
        return self._http.get(list[Inventory], f"/machines/{machine}/inventories")

    def updates(self, machine: Which) -> Sequence[MissingUpdate]:
        """What a machine lacks: security first, the oldest first."""
        return self._http.get(list[MissingUpdate], f"/machines/{machine}/updates")

    def installed(
        self,
        words: str = "",
        *,
        trial: bool = False,
        unused_days: int | None = None,
        not_version: str = "",
        limit: int = 200,
    ) -> Sequence[ProgramOnMachine]:
        """Programs over the shop, the largest first."""
        asked = {"words": words, "trial": trial, "unused_days": unused_days,
                 "not_version": not_version, "limit": limit}  # fmt: skip
        filters = {name: value for name, value in asked.items() if value not in ("", False, None)}
        return self._http.get(list[ProgramOnMachine], "/installed", **filters)

    def comparison(self, run_id: int) -> Comparison:
        """How a machine stood before a run and after it."""
        return self._http.get(Comparison, f"/runs/{run_id}/comparison")

    def advice(self, machine: Which) -> Sequence[GivenAdvice]:
        """What the client is advised, what is open first."""
        return self._http.get(list[GivenAdvice], f"/machines/{machine}/advice")

    def advise(self, machine: Which, advice: AdviceEdit) -> GivenAdvice:
        """Write down advice that was given."""
        return self._http.post(GivenAdvice, f"/machines/{machine}/advice", advice)

    def set_status(
        self, number: int, status: AdviceStatus, comment: str = "", *, again_on: date | None = None
    ) -> GivenAdvice:
        """Say what became of advice; of what was declined, when it may be asked again."""
        step = AdviceStep(status=status, comment=comment, again_on=again_on)
        return self._http.post(GivenAdvice, f"/advice/{number}/status", step)
