"""What a rule would change over many machines, before anybody sets it."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from pydantic import Field

from phylax.core.shop import System
from phylax.core.tuning.known import KnownProgram, recognise
from phylax.core.tuning.programs import Program
from phylax.core.tuning.rules import InForce
from phylax.core.tuning.verdicts import Answers, Verdict, judge_program
from phylax.core.values import Value

NO_RULE = InForce()


class WhatIfLine(Value):
    """What becomes of one program over all machines looked at."""

    program: str
    name: str
    changes_on: tuple[int, ...] = ()
    needs_yes: bool = False
    stays_on: dict[str, tuple[int, ...]] = Field(
        default_factory=dict, description="Numbers of machines, by the reason why it stays there"
    )


@dataclass(frozen=True)
class Looked:
    """What a machine's last look found, and what counts there."""

    machine_id: int
    system: System
    programs: tuple[Program, ...]
    answers: Answers
    rules: Mapping[str, InForce] = field(default_factory=dict)
    """In force, by the program's key; none where no scope says anything of it."""
    never: frozenset[str] = frozenset()


def what_if(machines: Iterable[Looked], notebook: Iterable[KnownProgram]) -> list[WhatIfLine]:
    """What each program's verdict would be on each machine, most machines changed first.

    It is judged by the very function that decides in a look. A program that is one object on many
    machines, under one rule and the same answers, is judged once.
    """
    entries = tuple(notebook)
    # what is compared by its identity is kept, so that no other can come to have the same
    judged: dict[tuple[object, ...], tuple[Verdict, Program, InForce]] = {}
    recognised: dict[tuple[int, System], KnownProgram | None] = {}
    lines: dict[str, _Line] = defaultdict(_Line)
    for machine in machines:
        answered = tuple(sorted(machine.answers.items()))
        for program in machine.programs:
            rule = machine.rules.get(program.key, NO_RULE)
            fact = (id(program), id(rule), answered, program.key in machine.never, machine.system)
            known = judged.get(fact)
            if known is None:
                told = (id(program), machine.system)
                if told not in recognised:
                    recognised[told] = recognise(program, machine.system, entries)
                verdict = judge_program(
                    program, recognised[told], rule, machine.answers, machine.never
                )
                known = judged[fact] = (verdict, program, rule)
            lines[program.key].add(machine.machine_id, program, known[0])
    made = [line.made(key) for key, line in lines.items()]
    return sorted(made, key=lambda line: (-len(line.changes_on), line.program))


class _Line:
    def __init__(self) -> None:
        self.names: Counter[str] = Counter()
        self.changes: list[int] = []
        self.stays: dict[str, list[int]] = defaultdict(list)
        self.needs_yes = False

    def add(self, machine_id: int, program: Program, verdict: Verdict) -> None:
        self.names[program.name] += 1
        if verdict.changes:
            self.changes.append(machine_id)
            self.needs_yes = self.needs_yes or verdict.needs_yes
        else:
            self.stays[verdict.reason or ""].append(machine_id)

    def made(self, key: str) -> WhatIfLine:
        return WhatIfLine(
            program=key,
            name=self.names.most_common(1)[0][0],
            changes_on=tuple(self.changes),
            needs_yes=self.needs_yes,
            stays_on={reason: tuple(ids) for reason, ids in self.stays.items()},
        )
