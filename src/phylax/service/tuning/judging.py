"""Tune-up as the shop sees it: judged looks, programs nobody knows, what may go unattended."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.clients.shop import Machine
from phylax.core.tuning.changes import MOST_WANTED, PROGRAMS, Change, Wanted, WantedValue
from phylax.core.tuning.known import KnownProgram, recognise
from phylax.core.tuning.looks import JudgedProgram, JudgedSettings, JudgedValue, UnknownProgram
from phylax.core.tuning.programs import Intent, Program
from phylax.core.tuning.rules import InForce
from phylax.core.tuning.setting import Reversibility, settings
from phylax.core.tuning.unattended import why_it_waits
from phylax.core.tuning.verdicts import (
    Answers,
    Circumstances,
    Seen,
    Verdict,
    judge_program,
    judge_setting,
)
from phylax.service.problems import Problem
from phylax.store.clients import shop
from phylax.store.tuning import (
    notebook,
    program_looks,
    program_rules,
    setting_rules,
    settings_changes,
    starts,
)

_NO_RULE = InForce()
_SOME = 6
"""So many machines are named of those that have a program."""


def judged_look(conn: Connection, machine: Machine) -> JudgedSettings:
    """A machine's newest survey, judged by what counts now; a problem where nobody looked."""
    look = program_looks.look(conn, machine.id)
    if look is None:
        raise Problem(
            404, "not-looked-at", f"{machine.tag} was not looked at for settings yet; survey it."
        )
    entries = notebook.entries(conn)
    said = program_rules.StoredProgramRules(conn)
    answers = said.answers(machine.id, machine.client_id)
    rules = said.rules(machine.id, machine.client_id)
    judged = []
    for program in look.programs:
        known = recognise(program, machine.system, entries)
        judged.append(
            JudgedProgram(
                program=program,
                now=program.now,
                known_id=known.id if known else None,
                verdict=judge_program(program, known, rules.get(program.key, _NO_RULE), answers),
            )
        )
    return JudgedSettings(
        machine_id=machine.id,
        taken_at=look.taken_at,
        unread=look.unread,
        programs=tuple(judged),
        values=tuple(_judged_values(conn, machine, look.values, answers)),
    )


def _judged_values(
    conn: Connection, machine: Machine, values: Sequence[Seen], answers: Answers
) -> Iterator[JudgedValue]:
    """Settings of one value, in their order; what is not there is left out."""
    known = settings()
    places = {key: place for place, key in enumerate(known)}
    for seen in sorted(values, key=lambda seen: (places.get(seen.key, 0), seen.person)):
        setting = known.get(seen.key)
        # an agent of another version may know of more
        if setting is None or not setting.is_one_value or not seen.present:
            continue
        rule = setting_rules.in_force_on(conn, machine.id, machine.client_id, seen.key)
        verdict = judge_setting(setting, seen, rule, answers, Circumstances())
        yield JudgedValue(
            setting=setting,
            seen=seen,
            now=setting.shown(seen.value),
            becomes=setting.shown(verdict.value) if verdict.changes else "",
            verdict=verdict,
        )


class Unattended(NamedTuple):
    """What a round may change on a machine with nobody there."""

    wanted: tuple[Wanted, ...] = ()
    values: tuple[WantedValue, ...] = ()


def unattended(conn: Connection, machine_id: int) -> Unattended:
    """What may go with nobody there; how much waits for a person is noted. Nothing where nobody
    has looked, or where the newest survey could not read it."""
    machine = shop.machine(conn, machine_id)
    look = program_looks.look(conn, machine_id)
    if machine is None or look is None or look.unread:
        return Unattended()
    judged = judged_look(conn, machine)
    rules = program_rules.StoredProgramRules(conn).rules(machine.id, machine.client_id)
    history: dict[tuple[str, str, str], list[Change]] = {}
    for change in settings_changes.of_machine(conn, machine_id):
        # a program is one, whoever's parts of it were changed
        of = "" if change.program else change.person
        history.setdefault((change.setting, change.program, of), []).append(change)

    def waits(about: tuple[str, str, str], verdict: Verdict, *, put_right: bool) -> bool:
        earlier = history.get(about, [])
        outcome = starts.last_outcome(conn, earlier[0].run_id) if earlier else None
        return why_it_waits(verdict, earlier, outcome, put_right=put_right) is not None

    wanted, values, waiting = [], [], 0
    for program in judged.programs:
        if not program.verdict.changes:
            continue
        key = program.program.key
        put_right = rules.get(key, _NO_RULE).put_right
        if waits((PROGRAMS, key, ""), program.verdict, put_right=put_right):
            waiting += 1
        else:
            intent = Intent(str(program.verdict.value))
            wanted.append(Wanted(program=key, was=program.now, intent=intent))
    for value in judged.values:
        if not value.verdict.changes or value.verdict.value is None:
            continue
        key, of = value.seen.key, value.seen.person
        rule = setting_rules.in_force_on(conn, machine.id, machine.client_id, key)
        exact = value.setting.goes_back is Reversibility.EXACT
        if not exact or waits((key, "", of), value.verdict, put_right=rule.put_right):
            waiting += 1
        else:
            want, was = value.verdict.value, value.seen.value
            values.append(WantedValue(setting=key, person=of, previous=was, value=want))
    program_looks.note_waiting(conn, machine_id, waiting)
    return Unattended(tuple(wanted[:MOST_WANTED]), tuple(values[:MOST_WANTED]))


def unknown(conn: Connection) -> list[UnknownProgram]:
    """Programs that nobody has written about, of most machines first; what is guarded needs no
    entry, since nothing would change."""
    entries = notebook.entries(conn)
    found: dict[tuple[str, ...], list[program_looks.Spread]] = {}
    for spread in program_looks.over_the_shop(conn):
        program = spread.program
        known = any(entry.edit.recognition.fits(program) for entry in entries)
        if not program.guarded and not known:
            found.setdefault(_same_to_us(program), []).append(spread)
    made = [_unknown(conn, spreads) for spreads in found.values()]
    return sorted(made, key=lambda program: (-program.machines, program.key))


def _same_to_us(program: Program) -> tuple[str, ...]:
    """What one entry of the notebook would be about: a program of a person's own is the same with
    everybody whose file is the same and who calls it the same."""
    if program.digest and not program.package:
        return program.digest, program.name
    return (program.key,)


def _unknown(conn: Connection, spreads: Sequence[program_looks.Spread]) -> UnknownProgram:
    """One program, however differently it was read on its machines."""
    program = spreads[0].program
    tags = [
        tag
        for spread in spreads[:_SOME]
        for tag in program_looks.some_tags(conn, spread.number, _SOME)
    ]
    return UnknownProgram(
        key=program.key,
        name=program.name,
        description=program.description,
        package=program.package,
        signed_by=program.signed_by,
        digest=program.digest,
        path=program.path,
        machines=program_looks.machines_with(conn, spreads),
        clients=len(frozenset().union(*(spread.clients for spread in spreads))),
        machine_tags=tuple(dict.fromkeys(tags))[:_SOME],
    )


def with_machines(conn: Connection, entries: Sequence[KnownProgram]) -> list[KnownProgram]:
    """Entries with the number of machines on which each was seen."""
    fitting: dict[int, list[program_looks.Spread]] = {entry.id: [] for entry in entries}
    for spread in program_looks.over_the_shop(conn):
        for entry in entries:
            if entry.edit.recognition.fits(spread.program):
                fitting[entry.id].append(spread)
    return [
        entry.model_copy(update={"machines": program_looks.machines_with(conn, fitting[entry.id])})
        for entry in entries
    ]
