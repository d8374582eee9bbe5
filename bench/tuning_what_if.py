"""What an entry of the notebook would change over 5,000 machines of 40 programs each, against
judging every program of every machine by itself (the yardstick); and reading them from the store.
Bounded: it stops by itself.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from phylax.core.clients.shop import ClientEdit, MachineEdit
from phylax.core.ground.machines import System
from phylax.core.tuning.known import (
    KnownEdit,
    KnownProgram,
    ProgramDecision,
    Recognition,
    recognise,
)
from phylax.core.tuning.looks import SettingsSurvey
from phylax.core.tuning.programs import Intent, Program, Starter, StarterKind
from phylax.core.tuning.rules import InForce
from phylax.core.tuning.setting import DependsOn
from phylax.core.tuning.verdicts import judge_program
from phylax.core.tuning.what_if import Looked, what_if
from phylax.store.clients import shop
from phylax.store.file.database import Database
from phylax.store.tuning import program_looks

MACHINES, PROGRAMS, TURNS = 5_000, 40, 7
AT = datetime(2026, 3, 2, tzinfo=UTC)


def program(number: int, person: int) -> Program:
    """One of the programs, as it is on a machine of one of some people."""
    entry = Starter(key=f"s{number}", kind=StarterKind.SIGN_IN, on=True, person=f"person{person}")
    key = f"program-{number}"
    return Program(key=f"package:{key}", name=key, package=key, starters=(entry,))


def notebook() -> list[KnownProgram]:
    return [
        KnownProgram(
            id=number + 1,
            edit=KnownEdit(
                recognition=Recognition(package=f"program-{number}"),
                name=f"program-{number}",
                handling=ProgramDecision.HANGS,
                intent=Intent.ON_DEMAND,
                depends_on=DependsOn(question="scans", on="no"),
            ),
            written_by="Wren Halloran",
            written_at=AT,
        )
        for number in range(0, PROGRAMS, 2)
    ]


def median_of(work: Callable[[], object]) -> float:
    """Seconds."""
    took = []
    for _ in range(TURNS):
        begin = time.perf_counter()
        work()
        took.append(time.perf_counter() - begin)
    return statistics.median(took)


def main(machines: int = MACHINES) -> None:
    kinds = [[program(number, person) for number in range(PROGRAMS)] for person in range(20)]
    answers = [{}, {"scans": "no"}, {"scans": "yes"}]
    looked = [
        Looked(
            machine_id=number,
            system=System.LINUX,
            programs=tuple(kinds[number % 20]),
            answers=answers[number % 3],  # type: ignore[arg-type]
        )
        for number in range(machines)
    ]
    entries = notebook()
    no_rule = InForce()

    def one_by_one() -> int:
        return sum(
            judge_program(
                program, recognise(program, machine.system, entries), no_rule, machine.answers
            ).changes
            for machine in looked
            for program in machine.programs
        )

    lines = what_if(looked, entries)
    assert sum(len(line.changes_on) for line in lines) == one_by_one()
    ours = median_of(lambda: what_if(looked, entries))
    begin = time.perf_counter()
    one_by_one()
    theirs = time.perf_counter() - begin
    print(f"tuning_what_if: {machines:,} machines of {PROGRAMS} programs")
    print(f"  all programs, what_if:     {ours * 1000:7.0f} ms")
    print(
        f"  one by one (yardstick):    {theirs * 1000:7.0f} ms   {theirs / ours:.0f} times as long"
    )
    with tempfile.TemporaryDirectory() as name:
        _from_the_store(Path(name), looked)


def _from_the_store(folder: Path, looked: list[Looked]) -> None:
    database = Database(folder / "shop.sqlite")
    with database.write() as conn:
        client = shop.add_client(conn, ClientEdit(name="Bench"), who="bench", at=0)
        for machine in looked:
            edit = MachineEdit(tag=f"m-{machine.machine_id}", client_id=client, system="linux")
            number = shop.add_machine(conn, edit, who="bench", at=0)
            look = SettingsSurvey(taken_at=AT, programs=machine.programs)
            program_looks.keep_look(conn, number, look)
    with database.read() as conn:
        everything = median_of(lambda: program_looks.on_machines(conn, lambda program: True))
        spread = median_of(lambda: program_looks.over_the_shop(conn))
        rows = median_of(lambda: conn.execute("SELECT * FROM machine_programs").fetchall())
    print(f"  read all from the store:   {everything * 1000:7.0f} ms")
    print(f"  where each program is:     {spread * 1000:7.0f} ms")
    print(f"  the bare rows (yardstick): {rows * 1000:7.0f} ms")
    database.close()


if __name__ == "__main__":
    main()
