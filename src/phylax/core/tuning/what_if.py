"""What rules would change over many machines, before anybody sets them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from pydantic import Field

from phylax.core.ground.machines import System
from phylax.core.ground.values import Scalar, Value
from phylax.core.tuning.changes import PROGRAMS
from phylax.core.tuning.known import KnownProgram, recognise
from phylax.core.tuning.programs import Intent, Program
from phylax.core.tuning.rules import InForce
from phylax.core.tuning.setting import Setting
from phylax.core.tuning.verdicts import (
    Answers,
    Circumstances,
    Seen,
    Verdict,
    judge_program,
    judge_setting,
)

NO_RULE = InForce()


class WhatIfLine(Value):
    """What becomes of one program or setting over all machines looked at."""

    setting: str = PROGRAMS
    program: str = Field("", description="Its key, where the setting is startup programs")
    name: str
    changes_on: tuple[int, ...] = ()
    needs_approval: bool = False
    intent: Intent | None = Field(
        None, description="What it becomes; none: nothing, or not the same on all machines"
    )
    value: Scalar | None = Field(None, description="What a setting of one value becomes")
    becomes: str = Field("", description="In words; empty: nothing, or not the same everywhere")
    kept_on: dict[str, tuple[int, ...]] = Field(
        default_factory=dict, description="Numbers of machines, by the reason why it stays there"
    )


@dataclass(frozen=True)
class Looked:
    """What a machine's last survey found, and what counts there."""

    machine_id: int
    system: System
    programs: tuple[Program, ...]
    answers: Answers
    rules: Mapping[str, InForce] = field(default_factory=dict)
    """In force, by the program's key; none where no scope says anything of it."""
    never: frozenset[str] = frozenset()


def what_if(machines: Iterable[Looked], notebook: Iterable[KnownProgram]) -> list[WhatIfLine]:
    """What each program's verdict would be on each machine, most machines changed first.

    It is judged by the very function that decides in a survey. A program that is one object on many
    machines, under one rule and the same answers, is judged once.
    """
    entries = tuple(notebook)
    facts: dict[tuple[object, ...], _Alike] = {}
    for machine in machines:
        answers = tuple(sorted(machine.answers.items()))
        for program in machine.programs:
            rule = machine.rules.get(program.key, NO_RULE)
            is_never = program.key in machine.never
            fact = (id(program), id(rule), answers, is_never, machine.system)
            alike = facts.get(fact)
            if alike is None:
                alike = facts[fact] = _Alike(machine, program, rule)
            alike.machine_ids.append(machine.machine_id)
    lines: dict[str, _Line] = defaultdict(_Line)
    for alike in facts.values():
        machine = alike.machine
        known = recognise(alike.program, machine.system, entries)
        verdict = judge_program(alike.program, known, alike.rule, machine.answers, machine.never)
        lines[alike.program.key].add(alike, verdict)
    made = [line.made(key) for key, line in lines.items()]
    return sorted(made, key=lambda line: (-len(line.changes_on), line.program))


class RuleWhatIf(Value):
    """What one rule would change, on the machines that it holds for."""

    now: WhatIfLine | None = Field(None, description="None: it was seen on none of them")
    then: WhatIfLine | None = None


@dataclass(frozen=True)
class SeenOn:
    """A setting of one value as a machine's last survey found it, and what counts there."""

    machine_id: int
    seen: Seen
    rule: InForce
    answers: Answers


def what_if_set(setting: Setting, machines: Iterable[SeenOn]) -> list[WhatIfLine]:
    """What a setting's verdict would be on each machine, a line for each value that it becomes.

    A machine of several people changes where one of theirs does.
    """
    changes: dict[Scalar, set[int]] = defaultdict(set)
    stays: dict[int, str] = {}
    around = Circumstances()
    # one object under one rule and the same answers is judged once
    verdicts: dict[tuple[int, int, int], tuple[SeenOn, Verdict]] = {}
    for on in machines:
        fact = (id(on.seen), id(on.rule), id(on.answers))
        if fact not in verdicts:
            judged = judge_setting(setting, on.seen, on.rule, on.answers, around)
            verdicts[fact] = on, judged
        verdict = verdicts[fact][1]
        if verdict.changes and verdict.value is not None:
            changes[verdict.value].add(on.machine_id)
        else:
            stays.setdefault(on.machine_id, verdict.reason or "")
    changing = set().union(*changes.values())
    by_reason: dict[str, list[int]] = defaultdict(list)
    for machine_id, reason in sorted(stays.items()):
        if machine_id not in changing:
            by_reason[reason].append(machine_id)
    stays_on = {reason: tuple(ids) for reason, ids in by_reason.items()}
    lines = [
        WhatIfLine(
            setting=setting.key,
            name=setting.name,
            changes_on=tuple(sorted(ids)),
            needs_approval=setting.needs_approval,
            value=value,
            becomes=setting.shown(value),
            kept_on=stays_on,
        )
        for value, ids in changes.items()
    ]
    if not lines and stays_on:
        lines = [WhatIfLine(setting=setting.key, name=setting.name, kept_on=stays_on)]
    return sorted(lines, key=lambda line: -len(line.changes_on))


class _Alike:
    """One program under one rule and the same answers, on all machines on which it is so.

    What is compared by its identity is kept here, so that no other can come to have the same.
    """

    __slots__ = ("machine", "machine_ids", "program", "rule")

    def __init__(self, machine: Looked, program: Program, rule: InForce) -> None:
        self.machine = machine
        self.program = program
        self.rule = rule
        self.machine_ids: list[int] = []


class _Line:
    """What is gathered of one program."""

    def __init__(self) -> None:
        self.names: Counter[str] = Counter()
        self.changes: list[int] = []
        self.stays: dict[str, list[int]] = defaultdict(list)
        self.needs_yes = False
        self.intents: set[str] = set()

    def add(self, alike: _Alike, verdict: Verdict) -> None:
        self.names[alike.program.name] += len(alike.machine_ids)
        if verdict.changes:
            self.changes += alike.machine_ids
            self.needs_yes = self.needs_yes or verdict.needs_approval
            self.intents.add(str(verdict.value))
        else:
            self.stays[verdict.reason or ""] += alike.machine_ids

    def made(self, key: str) -> WhatIfLine:
        return WhatIfLine(
            program=key,
            name=self.names.most_common(1)[0][0],
            changes_on=tuple(sorted(self.changes)),
            needs_approval=self.needs_yes,
            intent=Intent(next(iter(self.intents))) if len(self.intents) == 1 else None,
            becomes=next(iter(self.intents)) if len(self.intents) == 1 else "",
            kept_on={reason: tuple(sorted(ids)) for reason, ids in self.stays.items()},
        )
