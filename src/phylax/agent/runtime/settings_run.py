"""Carrying out what is to become of programs: each change whole or not at all, and read back.

An order names keys and intents. Everything else is read here anew: what starts the program, whether
it is guarded, whether it still runs as it did when somebody decided.
"""

from __future__ import annotations

import logging
import uuid
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

from phylax.agent.machines import MachineKind
from phylax.agent.platform.uptime import running
from phylax.agent.tuning.changer import AlteredError, Change, Changer, NotMadeError
from phylax.core.protocol import ChangeSettingsOrder, PutSettingsBackOrder
from phylax.core.tuning.changes import MOST_WANTED, ChangeMade, ChangeState, Drifted, Wanted
from phylax.core.tuning.programs import Intent, Program, StarterKind

SETTING = "runs-by-itself"
_log = logging.getLogger("phylax.agent")


class SettingsRun:
    """Changes of one machine, by its own account."""

    def __init__(self, machine: MachineKind, journal: Path, never: frozenset[str]) -> None:
        """`journal` lies in the agent's folder; `never` are the keys that the guard adds."""
        self._machine = machine
        self._never = never
        self._changer = Changer(machine.switching_top(), journal)

    def recover(self) -> None:
        """Undo what was cut off in the middle."""
        for change in self._changer.recover():
            _log.warning("the change of %s was cut off, and is undone", change.entry)

    def change(self, order: ChangeSettingsOrder) -> list[ChangeMade]:
        """Do what an order wants, one program after the other; each costs only itself."""
        self.recover()
        # what was done before this run was cut off is not done again
        done = {
            change.entry: change
            for change in self._changer.changes()
            if change.id.startswith(f"{order.run_id}-") and change.stage.is_in_force
        }
        made = []
        for wanted in order.wanted:
            known = done.get(wanted.program)
            made.append(as_told(known) if known else self._change_one(order.run_id, wanted))
        return made

    def _change_one(self, run_id: int, wanted: Wanted) -> ChangeMade:
        at = datetime.now(UTC)
        program = self._program(wanted.program)
        name = program.name if program else wanted.program
        refused = self._why_not(program, wanted)
        change: Change | None = None
        if program is not None and not refused:
            try:
                change = self._make(run_id, program, wanted.intent, at)
            except (NotMadeError, OSError) as failure:
                refused = _said(failure)
        if change is not None:
            return as_told(change)
        return ChangeMade(
            program=wanted.program, name=name, before=wanted.was, after=wanted.intent,
            at=at, refused=refused[:500],
        )  # fmt: skip

    def _program(self, key: str) -> Program | None:
        try:
            return next((p for p in self._machine.programs() if p.key == key), None)
        except OSError:
            return None

    def _why_not(self, program: Program | None, wanted: Wanted) -> str:
        """Why a program is not changed; empty where it may be."""
        if program is None:
            return "not there"
        if program.unread:
            return f"cannot be read: {program.unread}"
        if program.guarded or program.key in self._never:
            return "guarded: " + (program.guarded or "named by this machine's own guard")
        if program.now is not wanted.was:
            return f"runs {program.now} by now, not {wanted.was}"
        if wanted.intent is Intent.NOT_AT_ALL and program.needed_by:
            return f"{', '.join(program.needed_by)} needs it"
        plan = program.plan(wanted.intent)
        if not plan:
            return f"nothing of it can make it run {wanted.intent}"
        if by_hand := [switch.starter.key for switch in plan if switch.is_by_hand]:
            return f"only by hand: {', '.join(by_hand)}"
        return ""

    def _make(self, run_id: int, program: Program, intent: Intent, at: datetime) -> Change:
        plan = program.plan(intent)
        pieces = self._machine.switched(program, plan)
        change = self._changer.make(
            Change(
                id=f"{run_id}-{uuid.uuid4().hex}",
                setting=SETTING,
                entry=program.key,
                name=program.name,
                before=program.now,
                after=intent,
                at=at,
                pieces=pieces,
                hangs=any(switch.starter.kind is not StarterKind.SIGN_IN for switch in plan),
                boot=self._machine.boot(),
                uptime=running(),
            )
        )
        after = self._program(program.key)
        # what is not listed any more has nothing that starts it; a person still can
        now = after.now if after else Intent.WHEN_ASKED
        if now is not intent:
            self._changer.put_back(change.id)
            raise NotMadeError(f"it was accepted, but the program then ran {now}; undone")
        return change

    def drifted(self, programs: Sequence[Program]) -> tuple[Drifted, ...]:
        """Changes in force that somebody else has altered since, by a look just taken.

        Only where the program runs otherwise by now: what is merely written otherwise and means
        the same is nobody's trouble.
        """
        now = {program.key: program.now for program in programs}
        drifted = []
        for change, _ in self._changer.drifted():
            wanted, runs = Intent(change.after), now.get(change.entry)
            # what is not listed any more has nothing that starts it
            gone_is_fine = runs is None and wanted in (Intent.WHEN_ASKED, Intent.NOT_AT_ALL)
            if runs is not wanted and not gone_is_fine:
                drifted.append(
                    Drifted(
                        id=change.id,
                        program=change.entry,
                        name=change.name,
                        wanted=wanted,
                        now=runs,
                    )
                )
        return tuple(drifted[:MOST_WANTED])

    def put_back(self, order: PutSettingsBackOrder) -> list[ChangeMade]:
        """Make everything what it was before some changes, the newest first."""
        self.recover()
        known = {change.id: change for change in self._changer.changes()}
        wanted = [known[change_id] for change_id in order.changes if change_id in known]
        outcomes = []
        for change in sorted(wanted, key=lambda change: change.at, reverse=True):
            try:
                self._changer.put_back(change.id)
                outcomes.append(as_told(change, ChangeState.PUT_BACK))
            except AlteredError as altered:
                made = as_told(change, ChangeState.ALTERED)
                outcomes.append(made.model_copy(update={"refused": str(altered)[:500]}))
            except OSError as failure:
                outcomes.append(
                    as_told(change).model_copy(update={"refused": _said(failure)[:500]})
                )
        return outcomes


def as_told(change: Change, state: ChangeState = ChangeState.MADE) -> ChangeMade:
    """A change of the journal, as the service is told of it."""
    return ChangeMade(
        id=change.id,
        program=change.entry,
        name=change.name,
        before=Intent(change.before),
        after=Intent(change.after),
        at=change.at,
        state=state,
    )


def _said(failure: Exception) -> str:
    if isinstance(failure, OSError):
        return f"{failure.strerror or type(failure).__name__}: {failure.filename or ''}".rstrip(
            ": "
        )
    return str(failure)
