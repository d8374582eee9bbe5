"""Confirmed or undone: what could keep the machine from the service stays only if it does not.

A change that hangs is undone unless the service is reached with it within some minutes, and again
after the next start of the machine. Nobody has to be there for that, and no session open.
"""

from __future__ import annotations

import json
import logging
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from phylax.agent.tuning.changer import AlteredError, Change, Changer, Stage

WITHIN = 600.0
"""Seconds in which the service has to be reached."""
_log = logging.getLogger("phylax.agent")


class Confirming:
    """Watches over the changes of one machine; asks the disk only where the journal is new."""

    def __init__(
        self,
        changer: Changer,
        boot: Callable[[], str],
        tries: Path,
        uptime: Callable[[], float] = time.monotonic,
    ) -> None:
        """`boot` names the start of the machine under way, `uptime` is how long it has run, sleep
        not counted: who sleeps does not try. `tries` is the file that keeps since when it was
        tried in vain, also over a restart of the agent."""
        self._changer = changer
        self._boot = boot
        self._uptime = uptime
        self._read_at = -1.0
        self._open: list[Change] = []
        self._tries = tries
        self._began: tuple[str, float] | None = None

    def reached(self) -> None:
        """The service was reached: what was made before this start stays for good."""
        boot = self._boot()
        self._began = None
        self._tries.unlink(missing_ok=True)
        for change in self._hanging():
            if change.boot != boot:
                self._changer.note(change, stage=Stage.CONFIRMED)
            elif change.stage is Stage.MADE:
                self._changer.note(change, stage=Stage.REACHED)

    def not_reached(self) -> list[Change]:
        """The service could not be reached: undo what has had its time. Returns what was."""
        boot, now = self._boot(), self._uptime()
        # in this start it has been tried in vain since then; in another one that counts anew
        since = self._since(boot, now)
        undone = []
        for change in self._hanging():
            is_same_start = change.boot == boot
            if is_same_start and change.stage is Stage.REACHED:
                continue
            begun = max(change.uptime, since) if is_same_start else since
            if now - begun < WITHIN:
                continue
            if is_same_start:
                why = "the service could not be reached with it"
            else:
                why = "the service could not be reached after the next start"
            try:
                undone.append(self._changer.put_back(change.id, Stage.UNDONE, why))
                _log.warning("%s: %s; it is undone", change.name or change.entry, why)
            except AlteredError as altered:
                # somebody else's by now: it is theirs to answer for
                _log.warning("%s: %s, and it was %s", change.name or change.entry, why, altered)
                self._changer.note(change, stage=Stage.CONFIRMED)
            except OSError as failure:
                # the next try may go; the other changes do not wait for this one
                _log.warning("%s cannot be undone now: %s", change.name or change.entry, failure)
        return undone

    def _since(self, boot: str, now: float) -> float:
        """Since when it was tried in vain in this start; from now on where it was not. It is known
        here also where the disk keeps nothing."""
        if self._began is None or self._began[0] != boot:
            self._began = boot, self._kept_since(boot, now)
        return self._began[1]

    def _kept_since(self, boot: str, now: float) -> float:
        try:
            kept = json.loads(self._tries.read_text(encoding="utf-8"))
            if kept["boot"] == boot and 0 <= float(kept["since"]) <= now:
                return float(kept["since"])
        except (OSError, ValueError, KeyError, TypeError):
            pass
        with suppress(OSError):
            self._tries.write_text(json.dumps({"boot": boot, "since": now}), encoding="utf-8")
        return now

    def _hanging(self) -> list[Change]:
        newest = self._changer.newest()
        if newest != self._read_at:
            self._open = [
                change
                for change in self._changer.changes()
                if change.hangs and change.stage in (Stage.MADE, Stage.REACHED)
            ]
            self._read_at = newest
        return list(self._open)
