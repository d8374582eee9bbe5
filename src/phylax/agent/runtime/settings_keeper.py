"""What is to be seen to of settings between orders: confirmed or undone, and told."""

from __future__ import annotations

import json
import logging
import os
import re
import uuid
from pathlib import Path

from phylax.agent.machines import MachineKind
from phylax.agent.outbox.spool import Spool
from phylax.agent.runtime.settings_run import as_told
from phylax.agent.tuning.changer import Change, Changer, Stage
from phylax.agent.tuning.confirming import Confirming
from phylax.core.protocol import ChangesMessage, StartsMessage
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.starts import MOST_TOLD

_RUN = re.compile(r"([1-9][0-9]{0,17})-")
_log = logging.getLogger("phylax.agent")


class SettingsKeeper:
    """Watches over what was changed, and tells what starts cost, each once."""

    def __init__(
        self, machine: MachineKind, changes: Path, told_starts: Path, spool: Spool
    ) -> None:
        """`changes` is the journal's folder, `told_starts` the file of starts that were told."""
        self._machine = machine
        self._changer = Changer(machine.switching_top(), changes)
        self._confirming = Confirming(
            self._changer, machine.boot, told_starts.with_name("unreached.json")
        )
        self._told_starts = told_starts
        self._spool = spool
        self._told_at = -1.0

    def reached(self) -> None:
        """The service answered, with whatever."""
        self._confirming.reached()

    def not_reached(self) -> None:
        """The service's machine did not answer at all."""
        self._confirming.not_reached()

    def tell(self) -> None:
        """What went back without an order, and starts that were not told yet, go to the spool."""
        newest = self._changer.newest()
        if newest != self._told_at:
            for change in list(self._changer.changes()):
                if change.untold:
                    self._tell_end(change)
            self._told_at = self._changer.newest()
        self._tell_starts()

    def _tell_end(self, change: Change) -> None:
        run = _RUN.match(change.id)
        if run is not None:
            undone = change.stage is Stage.UNDONE
            state = ChangeState.UNDONE if undone else ChangeState.PUT_BACK
            made = as_told(change, state).model_copy(
                update={"refused": change.untold if undone else "", "there": not undone}
            )
            message = ChangesMessage(id=f"end-{change.id}", run_id=int(run[1]), changes=(made,))
            self._spool.put(message)
        self._changer.note(change, untold="")

    def _tell_starts(self) -> None:
        try:
            starts = list(self._machine.starts())
        except (OSError, ValueError) as failure:
            _log.warning("what starts cost cannot be told: %s", failure)
            return
        if not starts:
            return
        told = self._told()
        new = [start for start in starts if start.boot not in told][-MOST_TOLD:]
        if new:
            self._spool.put(StartsMessage(id=uuid.uuid4().hex, starts=tuple(new)))
            self._keep_told([*told, *(start.boot for start in new)])

    def _told(self) -> list[str]:
        try:
            told = json.loads(self._told_starts.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return []  # told again costs nothing: the service keeps each start once
        return [str(boot) for boot in told] if isinstance(told, list) else []

    def _keep_told(self, boots: list[str]) -> None:
        temporary = self._told_starts.with_suffix(".new")
        temporary.write_text(json.dumps(boots[-2 * MOST_TOLD :]), encoding="utf-8")
        os.replace(temporary, self._told_starts)
