"""A record of a million entries over 5,000 machines: one search, a machine's timeline, a report.

The yardstick is raw FTS5 on the same file: the newest fifty rows of a word, without words' fields,
names or kinds. Growth is told from a tenth of it. Bounded: it stops by itself.
"""

from __future__ import annotations

import random
import sqlite3
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, date, datetime
from pathlib import Path

from phylax.core.clients.shop import ClientEdit, MachineEdit, ShopEdit
from phylax.core.desk.visits import NewVisit
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.core.record.searching import HitKind, read_search
from phylax.core.reporting.request import ReportRequest
from phylax.service.context.context import Context
from phylax.service.reporting import making
from phylax.service.routes.lookup import find_searched
from phylax.store.clients import shop
from phylax.store.desk import visits
from phylax.store.file.database import Database
from phylax.store.record import records, searching
from phylax.store.record.searching import SearchRequest

MACHINES, ENTRIES = 5_000, 1_000_000
TIMES = 60
NOW = datetime(2026, 11, 29, 12, tzinfo=UTC)
_WORDS = [
    "".join(random.Random(number).choices("bdfgklmnprstvaeiou", k=3 + number % 7))
    for number in range(8000)
]  # fmt: skip
QUESTIONS = {
    "a common word": "disk",
    "a rare word": "quernstone",
    "the beginning of a word": "qu",
    "two words": "disk fan",
    "a word on one machine": "disk machine:tag-17",
    "a word of one client": 'disk client:"Client 17"',
    "a word in a span": "disk from:2025-03-01 to:2025-03-31",
    "a machine in a span": "machine:tag-17 from:2025-03-01 to:2026-03-31",
    "a word by somebody": "disk by:Wren",
    "a word of a kind": "disk kind:visit",
    "a tag": "tag-1234",
    "a name of a file": "tickets-2024.xlsx",
    "nothing": "zzzzzz",
}


def main(entries: int = ENTRIES, machines: int = MACHINES) -> None:
    for size in (entries // 10, entries):
        print(f"record_shop: {size:,} entries, {machines:,} machines")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "shop.sqlite3"
            context = Context(Database(path), lambda: NOW)
            began = time.perf_counter()
            visit = fill(context, size, machines)
            print(f"  written in {time.perf_counter() - began:.0f} s, "
                  f"{path.stat().st_size / 2**20:,.0f} MiB")  # fmt: skip
            _search(context)
            _timeline(context)
            _report(context, visit)
            context.db.close()


def fill(context: Context, entries: int, machines: int) -> int:
    chance = random.Random(19)
    first = to_seconds(NOW) - 3 * 365 * 86400
    step = max(1, (to_seconds(NOW) - first) // entries)
    with context.db.write() as conn:
        shop.open_shop(conn, ShopEdit(name="Bench", zone="Europe/Dublin"))
        for number in range(machines // 10):
            shop.add_client(conn, ClientEdit(name=f"Client {number}"), who="x", at=0)
        for number in range(machines):
            edit = MachineEdit(tag=f"tag-{number}", client_id=number // 10 + 1, system="linux",
                               make="Corrin", model=f"Slate {number % 40}")  # fmt: skip
            shop.add_machine(conn, edit, who="x", at=0)
    common = ["disk", "fan", "cleaned", "trash", "freed", "client", "told", "backup", "update"]
    for begin in range(0, entries, 20_000):
        with context.db.write() as conn:
            for number in range(begin, min(begin + 20_000, entries)):
                words = chance.choices(_WORDS, k=chance.randint(6, 20)) + chance.choices(
                    common, k=3
                )
                text = " ".join(words) + (" quernstone" if number % 9973 == 0 else "")
                records.append(conn, Entry(
                    machine_id=chance.randint(1, machines), at=from_seconds(first + number * step),
                    who=chance.choice(["Wren Halloran", "Ines Marrow", "Petra Lund", "Nightly"]),
                    kind=chance.choice([RecordKind.RUN, RecordKind.NOTE, RecordKind.SETTING]),
                    text=text,
                ))  # fmt: skip
    with context.db.write() as conn:
        at = to_seconds(NOW) - 86400
        number = visits.add(
            conn, NewVisit(machine_id=18, reported_problem="The disk clicks"), who="x", at=at
        )
        for line in range(200):
            records.append(conn, Entry(machine_id=18, at=from_seconds(at), who="Wren Halloran",
                                       kind=RecordKind.RUN, text=f"disk {line}"))  # fmt: skip
        visits.close(conn, number, "mended", None, who="x", at=to_seconds(NOW) - 60)
        conn.executemany(
            "INSERT INTO named_files (machine_id, category, place, path, why)"
            " VALUES (?, 'trash', '/home/anna', ?, 'in use')",
            [(1 + n % machines, f"old/{_WORDS[n % 8000]}-{n}.xlsx") for n in range(entries // 5)],
        )
        conn.execute("INSERT INTO named_files (machine_id, path) VALUES (7, 'tickets-2024.xlsx')")
    return number


def _milliseconds(act: Callable[[], object], times: int = TIMES) -> list[float]:
    act()
    spans = []
    for _ in range(times):
        began = time.perf_counter()
        act()
        spans.append(1000 * (time.perf_counter() - began))
    return spans


def _p95(spans: list[float]) -> float:
    return statistics.quantiles(spans, n=20)[-1] if len(spans) > 1 else spans[0]


def _search(context: Context) -> None:
    with context.db.read() as conn:
        raw = _p95(_milliseconds(lambda: _raw(conn, '"disk"')))
        print(f"  raw FTS5, a common word: p95 {raw:.1f} ms")
        for name, words in QUESTIONS.items():
            spans = _milliseconds(lambda words=words: _all_kinds(conn, words), 20)  # type: ignore[misc]
            p95 = _p95(spans)
            print(f"  {name:26} p95 {p95:7.1f} ms  {p95 / raw:6.1f} x raw")


def _raw(conn: sqlite3.Connection, match: str) -> list[sqlite3.Row]:
    return conn.execute(
        "SELECT rowid FROM records_text WHERE records_text MATCH ? ORDER BY rowid DESC LIMIT 50",
        (match,),
    ).fetchall()


def _all_kinds(conn: sqlite3.Connection, words: str) -> None:
    asked = read_search(words)
    question = SearchRequest(asked.words, *find_searched(conn, asked), asked.by, asked.kinds)
    for kind in HitKind:
        searching.search(conn, question, kind, limit=9)


def _timeline(context: Context) -> None:
    with context.db.read() as conn:
        choice = records.RecordChoice(machine_id=18)
        spans = _milliseconds(lambda: records.records(conn, choice, before=2**62, limit=51))
        print(f"  first page of a machine's timeline: p95 {_p95(spans):.1f} ms")


def _report(context: Context, visit: int) -> None:
    began = time.perf_counter()
    making.prepare(context, ReportRequest(visit=visit), "x")
    print(f"  the first report since the service started: {time.perf_counter() - began:.1f} s")
    spans = _milliseconds(lambda: making.prepare(context, ReportRequest(visit=visit), "x"), 5)
    print(f"  a report of a visit with 200 entries, sealed: longest {max(spans):,.0f} ms")
    month = ReportRequest(machine_id=18, first=date(2024, 1, 1), last=date(2026, 11, 1))
    spans = _milliseconds(lambda: making.prepare(context, month, "x"), 5)
    print(f"  a report of a machine over three years: longest {max(spans):,.0f} ms")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
