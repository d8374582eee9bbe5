"""What-if over 5,000 machines in one process, against reading the same rows with plain SQL.

Goal: under 200 ms, growing linearly. Median of several questions, each with another span.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

from phylax.core.clients.shop import ClientEdit, MachineEdit, ShopEdit
from phylax.core.ground.machines import System
from phylax.core.ground.tally import Tally
from phylax.core.retention import Rule, Scope, in_force
from phylax.core.survey import AgeDay, Survey, SurveyKind, SurveyLine
from phylax.core.survey.what_if import WhatIfQuestion, packed
from phylax.service.retention.what_if import what_if
from phylax.store.clients import shop
from phylax.store.file.database import Database
from phylax.store.retention import rules
from phylax.store.survey import profiles

SIZES = (1_000, 2_500, 5_000)
ASKED = 9
NOW = datetime(2026, 3, 2, tzinfo=UTC)


def main() -> None:
    print(f"what_if_shop: {SIZES[-1]:,} machines, an age profile of 120 days each")
    for machines in SIZES:
        with tempfile.TemporaryDirectory() as folder:
            database = Database(Path(folder) / "shop.sqlite3")
            _fill(database, machines)
            at = int(NOW.timestamp())
            with database.read() as conn:

                def ask(n: int) -> None:
                    rule = Rule(keep_for=timedelta(days=n))
                    what_if(conn, WhatIfQuestion(category="trash", rule=rule), at=at)  # noqa: B023

                def read(n: int) -> None:
                    for sql in (
                        "SELECT * FROM profiles WHERE category = 'trash'",
                        "SELECT m.id, m.tag, c.name FROM machines m"
                        " JOIN clients c ON c.id = m.client_id",
                    ):
                        conn.execute(sql).fetchall()

                asked, plain = _time(ask), _time(read)
            database.close()
        print(
            f"  {machines:>5,} machines  {1000 * asked:.0f} ms, "
            f"{asked / plain:.1f} times reading the rows ({1000 * plain:.0f} ms)"
        )


def _time(work: Callable[[int], None]) -> float:
    work(1)
    took = []
    for n in range(ASKED):
        began = time.perf_counter()
        work(5 + 7 * n)
        took.append(time.perf_counter() - began)
    return statistics.median(took)


def _fill(database: Database, machines: int) -> None:
    random = Random(8610)
    rule = in_force([(Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=30)))])
    with database.write() as conn:
        shop.open_shop(conn, ShopEdit(name="Bench", zone="Europe/Dublin"), is_demo=False)
        clients = [
            shop.add_client(conn, ClientEdit(name=f"Client {n}"), who="bench", at=0)
            for n in range(machines // 4)
        ]
        for number in range(machines):
            machine_id = shop.add_machine(
                conn,
                MachineEdit(tag=f"m-{number}", client_id=clients[number // 4], system=System.LINUX),
                who="bench",
                at=0,
            )
            conn.execute(
                "UPDATE machines SET surveyed_at = ? WHERE id = ?",
                (int(NOW.timestamp()), machine_id),
            )
            ages = tuple(
                AgeDay(day=day, count=random.randint(1, 9), size=random.randint(1, 10**9))
                for day in sorted(random.sample(range(400), 120))
            )
            line = SurveyLine(
                category="trash", mount="/", rule=rule, total=Tally(), removable=Tally(), ages=ages,
                digest="", capacity=10**12, free=10**11,
            )  # fmt: skip
            survey = Survey(
                id=1, machine_id=machine_id, run_id=1, kind=SurveyKind.FIRST, started_at=NOW,
                ended_at=NOW, lines=(line,),
            )  # fmt: skip
            profiles.replace(conn, survey, [(line, *packed(line))])
            if number % 10 == 0:
                own = Rule(keep_for=timedelta(days=number % 60))
                rules.put(conn, Scope.MACHINE, machine_id, "trash", own, who="bench", at=0)


if __name__ == "__main__":
    main()
