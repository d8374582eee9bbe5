"""What is to be dealt with of settings between orders: confirmed or undone, and told."""

from __future__ import annotations

import json
import logging
import os
import re
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from phylax.agent.machines import MachineKind
from phylax.agent.outbox.spool import Spool
from phylax.agent.runtime.settings_run import as_told
from phylax.agent.tuning.changer import Change, Changer, Stage
from phylax.agent.tuning.confirmation import Confirming
from phylax.agent.tuning.setting_backend import SettingBackend
from phylax.core.protocol import ChangesMessage, StartsMessage
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.starts import MOST_TOLD

_RUN = re.compile(r"([1-9][0-9]{0,17})-")
_log = logging.getLogger("phylax.agent")


class SettingsKeeper:
    """Watches over what was changed, and tells what starts cost, each once."""

    def __init__(
        self,
        machine: MachineKind,
        hands: SettingBackend,
        changes: Path,
        told_starts: Path,
        spool: Spool,
    ) -> None:
        """`hands` write what is undone; `changes` is the journal's folder, `told_starts` the file
        of starts that were told."""
        self._machine = machine
        self._changer = Changer(hands, changes)
        self._confirming = Confirming(
            self._changer, machine.boot, told_starts.with_name("unreached.json")
        )
        self._told_starts = told_starts
        self._spool = spool
        self._told_at = -1.0
        self._spooled: set[str] = set()

    def reached(self) -> None:
        """The service answered, with whatever."""
        with _only_this():
            self._confirming.reached()

    def not_reached(self) -> None:
        """The service's machine did not answer at all."""
        with _only_this():
            self._confirming.not_reached()

    def tell(self) -> None:
        """What went back without an order, and starts that were not told yet, go to the spool."""
        with _only_this():
            self._tell_ends()
        with _only_this():
            self._tell_starts()

    def _tell_ends(self) -> None:
        newest = self._changer.newest()
        if newest != self._told_at:
            for change in list(self._changer.changes()):
                if change.untold:
                    self._tell_end(change)
            self._told_at = self._changer.newest()

    def _tell_end(self, change: Change) -> None:
        run = _RUN.match(change.id)
        if run is not None and change.id not in self._spooled:
            undone = change.stage is Stage.UNDONE
            state = ChangeState.UNDONE if undone else ChangeState.PUT_BACK
            made = as_told(change, state).model_copy(
                update={"refused": change.untold if undone else "", "at_machine": not undone}
            )
            message = ChangesMessage(id=f"end-{change.id}", run_id=int(run[1]), changes=(made,))
            self._spool.put(message)
            self._spooled.add(change.id)
        self._changer.note(change, untold="")

    def _tell_starts(self) -> None:
        starts = list(self._machine.starts())
        if not starts:
            return
        boots = self._told_boots()
        new = [
            start for start in starts if start.boot not in boots and start.boot not in self._spooled
        ]
        if new:
            self._spool.put(StartsMessage(id=uuid.uuid4().hex, starts=tuple(new[-MOST_TOLD:])))
            self._spooled.update(start.boot for start in new)
            self._keep_told([*boots, *(start.boot for start in new)])

    def _told_boots(self) -> list[str]:
        """Starts that were told; told again costs nothing, for the service keeps each once."""
        try:
            boots = json.loads(self._told_starts.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return []
        return [str(boot) for boot in boots] if isinstance(boots, list) else []

    def _keep_told(self, boots: list[str]) -> None:
        temporary = self._told_starts.with_suffix(".new")
        temporary.write_text(json.dumps(boots[-2 * MOST_TOLD :]), encoding="utf-8")
        os.replace(temporary, self._told_starts)


@contextmanager
def _only_this() -> Iterator[None]:
    """A disk that refuses costs only what is done here: the agent's other work may be what makes
    room on it."""
    try:
        yield
    except (OSError, ValueError) as failure:
        _log.warning("settings are not dealt with now: %s", failure)
