"""What is told of each demo machine in the scenario is found by the product itself."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from datetime import UTC, datetime
from sqlite3 import Connection

import pytest

from phylax.core.attention import Attention, Cause, NextStep
from phylax.core.trends import Help, IntervalVerdict, Outlook, Regrowth
from phylax.demo.shop import make
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.service.serving.serve import FILE
from phylax.service.trends import forecasts
from phylax.store.attention import attention
from phylax.store.clients import shop
from phylax.store.file.database import Database
from phylax.store.trends import outlooks as outlook_store

NOW = datetime(2026, 7, 6, 9, 30, tzinfo=UTC)
"""Another day than the one the demo is usually tried on."""


@pytest.fixture(scope="module")
def conn(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Connection]:
    folder = tmp_path_factory.mktemp("stories")
    make(folder, NOW, "http://127.0.0.1:1", lives_in=folder)
    database = Database(folder / FILE)
    context = Context(database, clock=lambda: NOW)
    monitor.whole(context)
    with database.read() as connection:
        yield connection
    database.close()
    shutil.rmtree(folder)


def number(conn: Connection, tag: str) -> int:
    machine = shop.machine_by_tag(conn, tag)
    assert machine is not None
    return machine.id


def outlook(conn: Connection, tag: str, mount: str) -> Outlook:
    (found,) = [o for o in outlook_store.of_machine(conn, number(conn, tag)) if o.mount == mount]
    return found


def needs(conn: Connection, tag: str, cause: Cause) -> Attention:
    everything = attention.all_open(conn, at=int(NOW.timestamp()))
    (found,) = [one for one in everything if one.machine_tag == tag and one.cause is cause]
    return found


def comes_back(conn: Connection, tag: str) -> dict[str, Regrowth]:
    regrowths = forecasts.regrowths(conn, number(conn, tag), int(NOW.timestamp()))
    return {regrowth.category: regrowth for regrowth in regrowths}


def test_the_ferry_offices_scanner_folder(conn: Connection) -> None:
    found = outlook(conn, "ferry-tickets", "C:")
    assert found.changed is not None and found.changed.now > 10 * found.changed.before
    assert 20 <= (NOW - found.changed.since).days <= 40
    assert found.changed.grown[0].category == "own-folders"
    assert found.advice is not None and found.advice.helps is Help.RULE
    told = needs(conn, "ferry-tickets", Cause.FILLING_FAST)
    assert "the shop's own folders" in told.evidence and told.next_step is NextStep.SEE_TREND


def test_the_laptop_whose_caches_return(conn: Connection) -> None:
    found = outlook(conn, "oakes-laptop", "C:")
    assert found.cleaned_every_days == pytest.approx(7, abs=1)
    assert found.advice is not None and found.advice.verdict is IntervalVerdict.TOO_SELDOM
    back = comes_back(conn, "oakes-laptop")
    assert back["web-cache"].back_in_days in (6, 7, 8) and back["web-cache"].rate.likely > 500e6
    assert needs(conn, "oakes-laptop", Cause.NEARLY_FULL).next_step is NextStep.CLEAN


def test_the_x_ray_machine_that_cleaning_cannot_help(conn: Connection) -> None:
    found = outlook(conn, "vet-xray", "C:")
    assert found.over and found.advice is not None
    assert found.advice.verdict is IntervalVerdict.CANNOT_HELP
    assert found.advice.helps is Help.LARGER_DISK
    told = needs(conn, "vet-xray", Cause.NEARLY_FULL)
    assert "cleaning would free only" in told.evidence
    assert told.next_step is NextStep.ASK_CLIENT


def test_the_library_machine_whose_file_system_has_errors(conn: Connection) -> None:
    told = needs(conn, "library-3", Cause.CHECK_FINDINGS)
    assert told.reason.startswith("C: The file system has errors")
    assert told.next_step is NextStep.SEE_CHECKS


def test_nothing_of_the_past_still_runs(conn: Connection) -> None:
    rows = conn.execute("SELECT state, count(*) FROM runs WHERE round_id NOT NULL GROUP BY 1")
    states = dict(rows.fetchall())
    assert states.keys() <= {"done", "partly", "missed", "failed", "waiting"}, states
    assert states["done"] > 100


def test_the_kiosk_that_is_off_at_night(conn: Connection) -> None:
    told = needs(conn, "museum-kiosk", Cause.MISSED)
    assert "off" in told.evidence and "in a row" in told.reason


def test_the_small_system_disk_beside_an_empty_one(conn: Connection) -> None:
    found = outlook(conn, "boatyard-cad", "C:")
    assert found.advice is not None and found.advice.helps is Help.OTHER_VOLUME
    assert "D:" in found.advice.text
    other = outlook(conn, "boatyard-cad", "D:")
    assert other.advice is not None and other.advice.helps is Help.NOTHING_NEEDED


def test_machines_that_are_cleaned_more_often_than_they_need(conn: Connection) -> None:
    verdicts = outlook_store.count_verdicts(conn)
    assert verdicts[IntervalVerdict.TOO_OFTEN] >= 5
    for tag in ("ferry-desk", "vet-front"):
        advice = outlook(conn, tag, "C:").advice
        assert advice is not None and advice.weeks is not None
        assert "is more than" in advice.text
