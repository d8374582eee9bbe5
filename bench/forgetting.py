"""A client is forgotten in a record of a million entries, while the shop goes on writing.

The yardstick is the same writer with nobody being forgotten. What counts is how long the file is
held at a time, so how long a write of somebody else waits. Bounded: it stops by itself.
"""

from __future__ import annotations

import statistics
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path
from sqlite3 import Connection

from bench.record_shop import ENTRIES, MACHINES, NOW, fill
from phylax.core.erasing.forgetting.request import Forget
from phylax.core.ground.values import to_seconds
from phylax.core.record.records import Entry, RecordKind, verify
from phylax.service.context.context import Context
from phylax.service.record.archives import loading, writing
from phylax.store.clients import decommissioned, forgettings
from phylax.store.erasing.whole import carry_out
from phylax.store.file.database import Database
from phylax.store.record import records

_QUIET_SECONDS = 5.0
_CLIENT, _OTHER = 17, 4000


class Timed(Database):
    """Notes how long the file is held each time."""

    held: list[float]

    @contextmanager
    def write(self, *, check_references: bool = True) -> Iterator[Connection]:
        with super().write(check_references=check_references) as conn:
            began = time.perf_counter()
            yield conn
        # with its commit
        self.held.append(time.perf_counter() - began)

    def fold_log(self) -> bool:
        began = time.perf_counter()
        done = super().fold_log()
        self.held.append(time.perf_counter() - began)
        return done


def main(entries: int = ENTRIES, machines: int = MACHINES) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "shop.sqlite3"
        database = Timed(path)
        database.held = []
        context = Context(database, lambda: NOW)
        fill(context, entries, machines)
        print(f"forgetting: {entries:,} entries, {path.stat().st_size / 2**20:,.0f} MiB")
        at = to_seconds(NOW)
        with database.write() as conn:
            for machine in decommissioned.machines_of(conn, _CLIENT, retired_with_it=False):
                decommissioned.retire_machine(conn, machine, "", with_client=True, who="x", at=at)
            decommissioned.set_client(conn, _CLIENT, at, "", who="x", at=at)
            number = forgettings.add(conn, _CLIENT, Forget(), None, who="x", at=at)
        quiet = _writing(database, lambda: time.sleep(_QUIET_SECONDS))
        database.held.clear()
        took: list[float] = []

        def forget() -> None:
            began = time.perf_counter()
            assert carry_out(database, number, at=at, seconds=60)
            took.append(time.perf_counter() - began)

        busy = _writing(database, forget)
        with database.read() as conn:
            done = forgettings.get(conn, number)
        assert done is not None
        print(f"  {done.entries:,} entries lost their words in {took[0]:.1f} s, "
              f"{len(database.held):,} writes")  # fmt: skip
        print(f"  the file was held at most {1000 * max(database.held):.0f} ms at a time")
        for name, waits in (("nobody is forgotten", quiet), ("somebody is", busy)):
            print(f"  a write while {name}: p95 {_p95(waits):.1f} ms, "
                  f"longest {1000 * max(waits):.0f} ms, {len(waits):,} of them")  # fmt: skip
        print(f"  p95 {_p95(busy) / _p95(quiet):.1f} x quiet")
        _archive(database, Path(folder))
        database.close()


def _archive(database: Database, folder: Path) -> None:
    """Taken out and loaded; the yardstick is following the chain alone."""
    began = time.perf_counter()
    with database.read() as conn:
        assert verify(records.chain(conn)).intact
    chain = time.perf_counter() - began
    began = time.perf_counter()
    with database.read() as conn:
        writing.write(conn, folder / "all.zip", writing.SHOP, at=NOW + timedelta(days=1))
    out = time.perf_counter() - began
    began = time.perf_counter()
    loading.load(folder / "anew", folder / "all.zip")
    back = time.perf_counter() - began
    size = (folder / "all.zip").stat().st_size / 2**20
    print(f"  chain followed in {chain:.0f} s; taken out in {out:.0f} s ({out / chain:.1f} x), "
          f"{size:,.0f} MiB; loaded in {back:.0f} s ({back / chain:.1f} x)")  # fmt: skip


def _writing(database: Timed, meanwhile: Callable[[], object]) -> list[float]:
    """How long each write of a note takes while something else goes on."""
    ended = threading.Event()
    waits: list[float] = []

    def write() -> None:
        while not ended.is_set():
            began = time.perf_counter()
            with database.write() as conn:
                records.append(conn, Entry(machine_id=_OTHER, at=NOW, who="Ines Marrow",
                                           kind=RecordKind.NOTE, text="Fan cleaned."))  # fmt: skip
            waits.append(time.perf_counter() - began)
            time.sleep(0.01)

    writer = threading.Thread(target=write)
    writer.start()
    try:
        meanwhile()
    finally:
        ended.set()
        writer.join()
    return waits


def _p95(waits: list[float]) -> float:
    return 1000 * statistics.quantiles(waits, n=20)[-1]


if __name__ == "__main__":
    main()
