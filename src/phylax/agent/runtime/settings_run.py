"""Carrying out what is to become of programs: each change whole or not at all, and read back.

An order names keys and intents. Everything else is read here anew: what starts the program, whether
it is guarded, whether it still runs as it did when somebody decided.
"""

from __future__ import annotations

import logging
import time
import uuid
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

from phylax.agent.machines import TunedMachine
from phylax.agent.tuning.changer import AlteredError, Change, Changer, NotMadeError
from phylax.core.ground.values import Scalar
from phylax.core.protocol import ChangeSettingsOrder, PutSettingsBackOrder
from phylax.core.retention import ProtectKind
from phylax.core.tuning.changes import (
    MOST_WANTED,
    PROGRAMS,
    ChangeMade,
    ChangeState,
    Drifted,
    Wanted,
    WantedValue,
)
from phylax.core.tuning.programs import Intent, Program, StarterKind, Switch
from phylax.core.tuning.setting import Setting, settings
from phylax.core.tuning.verdicts import Seen

_log = logging.getLogger("phylax.agent")


class SettingsRun:
    """Changes of one machine, by its own account."""

    def __init__(
        self,
        machine: TunedMachine,
        journal: Path,
        never: frozenset[str],
        never_settings: frozenset[str] = frozenset(),
    ) -> None:
        """`journal` lies in the agent's folder; `never` are the programs' keys that the guard
        adds, `never_settings` the settings'."""
        self._machine = machine
        self._never = never
        self._never_settings = never_settings
        self._changer = Changer(machine.hands(), journal)

    def recover(self) -> None:
        """Undo what was cut off in the middle."""
        for change in self._changer.recover():
            _log.warning("the change of %s was cut off, and is undone", change.entry)

    def change(self, order: ChangeSettingsOrder) -> list[ChangeMade]:
        """Do what an order wants, one program after the other; each costs only itself."""
        self.recover()
        # what was done before this run was cut off is not done again
        done = {
            (change.setting, change.entry, change.of): change
            for change in self._changer.changes()
            if change.id.startswith(f"{order.run_id}-") and change.stage.is_in_force
        }
        made = []
        for wanted in order.wanted:
            parts = [c for c in done.values() if (c.setting, c.entry) == (PROGRAMS, wanted.program)]
            made += [*map(as_told, parts), *self._change_one(order.run_id, wanted, parts)]
        for value in order.values:
            known = done.get((value.setting, "", value.person))
            made.append(as_told(known) if known else self._set_one(order, value))
        return made

    def _set_one(self, order: ChangeSettingsOrder, wanted: WantedValue) -> ChangeMade:
        at = datetime.now(UTC)
        setting = settings().get(wanted.setting)
        if setting is None or not setting.is_one_value:
            refused = "not in this machine's catalogue"
            return ChangeMade(
                setting=wanted.setting, person=wanted.person, name=wanted.setting, before="",
                after="",
                at=at, refused=refused,
            )  # fmt: skip
        refused = self._why_not_set(setting, wanted)
        if not refused:
            try:
                return as_told(self._set(order, setting, wanted, at))
            except (NotMadeError, OSError) as failure:
                refused = _said(failure)
        return ChangeMade(
            setting=setting.key, person=wanted.person, name=setting.name, at=at,
            refused=refused[:500],
            before=setting.shown(wanted.previous), after=setting.shown(wanted.value),
        )  # fmt: skip

    def _seen(self, setting: str, of: str) -> Seen | None:
        try:
            values = self._machine.values()
        except OSError:
            return None
        return next((seen for seen in values if (seen.key, seen.person) == (setting, of)), None)

    def _why_not_set(self, setting: Setting, wanted: WantedValue) -> str:
        """Why a setting is not changed; empty where it may be."""
        if why := setting.why_not(wanted.value):
            return why
        if setting.key in self._never_settings:
            return "guarded: named by this machine's own guard"
        seen = self._seen(setting.key, wanted.person)
        if seen is None or not seen.present:
            return "not there"
        if seen.unread:
            return f"cannot be read: {seen.unread}"
        if not _same(seen.value, wanted.previous):
            return f"is {setting.shown(seen.value)} by now, not {setting.shown(wanted.previous)}"
        if not seen.settable:
            return "only by hand"
        if setting.plugged_in and self._machine.on_battery():
            return "on battery"
        return "" if seen.writable else "no right"

    def _set(
        self, order: ChangeSettingsOrder, setting: Setting, wanted: WantedValue, at: datetime
    ) -> Change:
        keeps = [entry.pattern for entry in order.protect if entry.kind is ProtectKind.SITE]
        change = self._changer.make(
            Change(
                id=f"{order.run_id}-{uuid.uuid4().hex}",
                setting=setting.key,
                of=wanted.person,
                name=setting.name,
                before=setting.shown(wanted.previous),
                after=setting.shown(wanted.value),
                at=at,
                pieces=self._machine.value_pieces(setting.key, wanted.person, wanted.value, keeps),
                hangs=setting.could_cut_off,
                boot=self._machine.boot(),
                uptime=time.monotonic(),
            )
        )
        seen = self._seen(setting.key, wanted.person)
        if seen is None or not _same(seen.value, wanted.value):
            self._changer.put_back(change.id)
            now = setting.shown(seen.value) if seen else "not there"
            raise NotMadeError(f"it was accepted, but was then {now}; undone")
        return change

    def _change_one(self, run_id: int, wanted: Wanted, known: Sequence[Change]) -> list[ChangeMade]:
        """What is still to be done of one program: the machine's part of it, and each person's,
        so that nobody's part hangs on somebody else."""
        at = datetime.now(UTC)
        program = self._program(wanted.program)
        refused = self._why_not(program, wanted, begun=bool(known))
        if program is None or refused:
            return [] if known else [_refused(wanted, program, "", at, refused)]
        made = []
        for of, part in self._parts(program.plan(wanted.intent)).items():
            try:
                change = self._make(run_id, program, part, of, wanted.intent, at)
                made.append(as_told(change))
            except (NotMadeError, OSError) as failure:
                made.append(_refused(wanted, program, of, at, _said(failure)))
        return made

    def _parts(self, plan: Sequence[Switch]) -> dict[str, list[Switch]]:
        """A plan's switches by whose they are, where this kind of machine keeps them apart."""
        parts: dict[str, list[Switch]] = {}
        for switch in plan:
            of = switch.starter.person if self._machine.keeps_people_apart else ""
            parts.setdefault(of, []).append(switch)
        return parts

    def _part_of(self, program: Program, of: str) -> Program:
        """A program as far as it is the machine's or a person's own."""
        if not self._machine.keeps_people_apart:
            return program
        starters = tuple(starter for starter in program.starters if starter.person == of)
        return program.model_copy(update={"starters": starters})

    def _program(self, key: str) -> Program | None:
        try:
            return next((p for p in self._machine.programs() if p.key == key), None)
        except OSError:
            return None

    def _why_not(self, program: Program | None, wanted: Wanted, *, begun: bool = False) -> str:
        """Why a program is not changed; empty where it may be. `begun`: a part of it was."""
        if program is None:
            return "not there"
        if program.unread:
            return f"cannot be read: {program.unread}"
        if program.guarded or program.key in self._never:
            return "guarded: " + (program.guarded or "named by this machine's own guard")
        if program.now is not wanted.was and not begun:
            return f"is {program.now} by now, not {wanted.was}"
        if wanted.intent is Intent.OFF and program.needed_by:
            return f"{', '.join(program.needed_by)} needs it"
        plan = program.plan(wanted.intent)
        if not plan:
            return f"it cannot be set to {wanted.intent}"
        return ""

    def _make(
        self, run_id: int, program: Program, part: Sequence[Switch], of: str, intent: Intent,
        at: datetime,
    ) -> Change:  # fmt: skip
        if by_hand := [switch.starter.key for switch in part if switch.is_by_hand]:
            raise NotMadeError(f"only by hand: {', '.join(by_hand)}")
        change = self._changer.make(
            Change(
                id=f"{run_id}-{uuid.uuid4().hex}",
                setting=PROGRAMS,
                entry=program.key,
                name=program.name,
                of=of,
                before=self._part_of(program, of).now,
                after=intent,
                at=at,
                pieces=self._machine.switched(program, part),
                # what is of a person's session keeps no machine from the network
                hangs=any(
                    not s.starter.person and s.starter.kind is not StarterKind.SIGN_IN for s in part
                ),
                boot=self._machine.boot(),
                uptime=time.monotonic(),
            )
        )
        after = self._program(program.key)
        # what is not listed any more has nothing that starts it; a person still can
        left = self._part_of(after, of) if after else None
        now = left.now if left and left.starters else Intent.ON_DEMAND
        if now is not intent:
            self._changer.put_back(change.id)
            raise NotMadeError(f"it was accepted, but the program then ran {now}; undone")
        return change

    def drifted(self, programs: Sequence[Program], values: Sequence[Seen]) -> tuple[Drifted, ...]:
        """Changes in force that somebody else has altered since, by a survey just taken.

        Only where the program runs otherwise by now: what is merely written otherwise and means
        the same is nobody's trouble.
        """
        now: dict[tuple[str, str, str], str] = {}
        for program in programs:
            now[PROGRAMS, program.key, ""] = program.now
            for of in {starter.person for starter in program.starters}:
                now[PROGRAMS, program.key, of] = self._part_of(program, of).now
        known = settings()
        now |= {
            (seen.key, "", seen.person): known[seen.key].shown(seen.value)
            for seen in values
            if seen.key in known and seen.present and not seen.unread
        }
        drifted = []
        for change, _ in self._changer.drifted():
            wanted = change.after
            runs = now.get((change.setting, change.entry, change.of))
            # what is not listed any more has nothing that starts it
            gone_is_fine = runs is None and wanted in (Intent.ON_DEMAND, Intent.OFF)
            if runs != wanted and not gone_is_fine:
                drifted.append(
                    Drifted(
                        id=change.id,
                        program=change.entry,
                        name=change.name,
                        expected=wanted,
                        value=runs,
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


def _refused(
    wanted: Wanted, program: Program | None, of: str, at: datetime, why: str
) -> ChangeMade:
    return ChangeMade(
        program=wanted.program,
        person=of,
        name=program.name if program else wanted.program,
        before=wanted.was,
        after=wanted.intent,
        at=at,
        refused=why[:500],
    )


def _same(value: Scalar | None, other: Scalar | None) -> bool:
    """Whether two values are the same: 1 is not True."""
    return type(value) is type(other) and value == other


def as_told(change: Change, state: ChangeState = ChangeState.MADE) -> ChangeMade:
    """A change of the journal, as the service is told of it."""
    return ChangeMade(
        id=change.id,
        setting=change.setting,
        program=change.entry,
        person=change.of,
        name=change.name,
        before=change.before,
        after=change.after,
        at=change.at,
        state=state,
    )


def _said(failure: Exception) -> str:
    if isinstance(failure, OSError):
        return f"{failure.strerror or type(failure).__name__}: {failure.filename or ''}".rstrip(
            ": "
        )
    return str(failure)
