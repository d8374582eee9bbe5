"""What an entry of the notebook or a rule would change on the shop's machines."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence, Set
from sqlite3 import Connection

from phylax.core.ground.machines import System
from phylax.core.ground.values import from_seconds
from phylax.core.retention import Scope
from phylax.core.tuning.known import KnownEdit, KnownProgram
from phylax.core.tuning.programs import Program
from phylax.core.tuning.rules import ProgramRuleEdit, TuningRuleEdit
from phylax.core.tuning.setting import settings
from phylax.core.tuning.verdicts import Answers, Seen
from phylax.core.tuning.what_if import (
    Looked,
    RuleWhatIf,
    SeenOn,
    WhatIfLine,
    what_if,
    what_if_set,
)
from phylax.store.clients import shop
from phylax.store.tuning import notebook, program_looks, program_rules, setting_rules


def what_an_entry_changes(
    conn: Connection, edit: KnownEdit, number: int | None, *, who: str, at: int
) -> list[WhatIfLine]:
    """What would become of every machine, were an entry written so; nothing is changed.

    `number` is the entry that is written anew; None for a new one.
    """
    entries = [entry for entry in notebook.entries(conn) if entry.id != number]
    new_id = number or max((entry.id for entry in entries), default=0) + 1
    written = KnownProgram(id=new_id, edit=edit, written_by=who, written_at=from_seconds(at))
    programs = program_looks.on_machines(conn, edit.recognition.fits)
    return what_if(looked(conn, programs), [*entries, written])


def what_a_program_rule_changes(
    conn: Connection, scope: Scope, subject_id: int, edit: ProgramRuleEdit
) -> RuleWhatIf:
    """What becomes of a program now and by another rule, on the machines of a scope."""
    meant = _machines_of(conn, scope, subject_id)
    seen_programs = program_looks.on_machines(conn, lambda program: program.key == edit.program)
    programs = {n: seen_programs[n] for n in seen_programs if n in meant}
    entries = notebook.entries(conn)
    now, then = (
        what_if(looked(conn, programs, program_rules.StoredProgramRules(conn, instead)), entries)
        for instead in (None, (scope, subject_id, edit))
    )
    return RuleWhatIf(now=next(iter(now), None), then=next(iter(then), None))


def what_a_setting_rule_changes(
    conn: Connection, scope: Scope, subject_id: int, edit: TuningRuleEdit
) -> RuleWhatIf:
    """What becomes of a setting now and by another rule, on the machines of a scope."""
    meant = _machines_of(conn, scope, subject_id)
    seen = program_looks.seen_everywhere(conn, {edit.setting}).get(edit.setting, [])
    here = [(number, value) for number, value in seen if number in meant]
    answered = _Answered(conn)
    now, then = (
        what_if_set(
            settings()[edit.setting],
            answered.on(here, setting_rules.StoredSettingRules(conn, edit.setting, instead)),
        )
        for instead in (None, (scope, subject_id, edit.rule))
    )
    return RuleWhatIf(now=next(iter(now), None), then=next(iter(then), None))


def settings_over_the_shop(conn: Connection) -> list[WhatIfLine]:
    """What becomes of each setting of one value over all machines; what stays everywhere is left
    out."""
    lines: list[WhatIfLine] = []
    answered = _Answered(conn)
    known = settings()
    # of what nobody wants anything, nothing changes
    wanted = setting_rules.ruled(conn) | {
        k for k, setting in known.items() if setting.default is not None
    }
    for key, seen in program_looks.seen_everywhere(conn, wanted).items():
        # an agent of another version may know of more
        if key in known:
            on = answered.on(seen, setting_rules.StoredSettingRules(conn, key))
            lines += [line for line in what_if_set(known[key], on) if line.changes_on]
    return sorted(lines, key=lambda line: (-len(line.changes_on), line.setting))


class _Answered:
    """What was answered for each machine, read once for all settings; the same answers are one
    object."""

    def __init__(self, conn: Connection) -> None:
        said = program_rules.StoredProgramRules(conn)
        alike: dict[tuple[object, ...], Answers] = {}
        self._of: dict[int, tuple[int, Answers]] = {}
        for machine in shop.described(conn):
            answers = said.answers(machine.id, machine.client_id)
            same = alike.setdefault(tuple(sorted(answers.items())), answers)
            self._of[machine.id] = machine.client_id, same

    def on(
        self, seen: Sequence[tuple[int, Seen]], rules: setting_rules.StoredSettingRules
    ) -> Iterator[SeenOn]:
        """A setting as it was seen on machines, with what counts there."""
        for number, value in seen:
            if number in self._of:
                client_id, answers = self._of[number]
                yield SeenOn(number, value, rules.in_force(number, client_id), answers)


def _machines_of(conn: Connection, scope: Scope, subject_id: int) -> Set[int]:
    """Numbers of the machines that a scope holds for."""
    return {
        machine.id
        for machine in shop.described(conn)
        if scope is Scope.SHOP
        or subject_id == (machine.id if scope is Scope.MACHINE else machine.client_id)
    }


def looked(
    conn: Connection,
    programs: Mapping[int, Sequence[Program]],
    said: program_rules.StoredProgramRules | None = None,
) -> list[Looked]:
    """What some machines' newest surveys found of some programs, and what counts there; by other
    rules where `said` is given."""
    said = said or program_rules.StoredProgramRules(conn)
    return [
        Looked(
            machine_id=machine.id,
            system=System(machine.system),
            programs=tuple(programs[machine.id]),
            answers=said.answers(machine.id, machine.client_id),
            rules=said.rules(machine.id, machine.client_id),
        )
        for machine in shop.described(conn)
        if machine.id in programs
    ]
