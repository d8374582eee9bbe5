"""The made-up shop: always the same, true to its stories, and alive."""

import json
import re
import shutil
import socket
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from engine import lines_of
from helpers import free_port, living_demo, wait_until
from phylax.agent.machines.standin import StandInMachine
from phylax.client import Phylax
from phylax.core.catalogue import catalogue
from phylax.core.ground.machines import System
from phylax.demo import scenario
from phylax.demo.shop import make
from phylax.service.serving.serve import FILE

NOW = datetime(2026, 3, 2, 9, 30, tzinfo=UTC)


def told(folder: Path) -> dict[str, list[tuple]]:
    """What the demo's file says, without what is random on purpose (secrets, message numbers)."""
    with sqlite3.connect(folder / FILE) as conn:
        return {
            table: conn.execute(f"SELECT {columns} FROM {table} ORDER BY 1, 2").fetchall()
            for table, columns in {
                "machines": "tag, seen_at, cleaned_at, removable",
                "reading_days": "volume_id, day, low, high, free",
                "runs": "id, machine_id, state, due_at, ended_at, freed",
                "record_words": "id, who, text",
            }.items()
        }


def test_it_is_the_same_each_time(made: Path, tmp_path: Path) -> None:
    make(tmp_path, NOW, "http://127.0.0.1:1", lives_in=tmp_path)
    assert told(tmp_path) == told(made)


def test_every_machine_of_the_scenario_is_there_with_four_hundred_days(made: Path) -> None:
    data = told(made)
    assert [row[0] for row in data["machines"]] == sorted(m.tag for m in scenario.MACHINES)
    days = {row[1] for row in data["reading_days"]}
    assert max(days) - min(days) >= 399
    with sqlite3.connect(made / FILE) as conn:
        hours = conn.execute("SELECT min(at), max(at) FROM readings").fetchone()
    assert hours[1] <= NOW.timestamp()
    assert {m.system for m in scenario.MACHINES if m.live} == {"windows", "macos", "linux"}


def test_names_and_addresses_are_invented(made: Path) -> None:
    with sqlite3.connect(made / FILE) as conn:
        mails = [row[0] for row in conn.execute("SELECT mail FROM clients")]
    assert len(mails) == 8 and all(mail.endswith(".example") for mail in mails)


@pytest.mark.parametrize("system", list(System))
def test_every_category_is_found_on_a_machine_of_its_system(made: Path, system: System) -> None:
    tags = [spec.tag for spec in scenario.MACHINES if spec.system is system]
    found: dict[str, int] = {}
    for tag in tags:
        for line in lines_of(StandInMachine(made / "machines" / tag)):
            found[line.category] = found.get(line.category, 0) + line.total.count
    expected = {key for key, kind in catalogue().items() if kind.on(system)} - {"own-folders"}
    assert {key for key, held in found.items() if held} == expected


def test_the_scanners_folder_and_the_picture_archive_are_decided_on(made: Path) -> None:
    with sqlite3.connect(made / FILE) as conn:
        lines = dict(
            conn.execute(
                "SELECT m.tag, s.lines FROM machines m JOIN surveys s ON s.id = m.survey_id"
            ).fetchall()
        )
    tickets = {line["category"]: line for line in json.loads(lines["ferry-tickets"])}
    assert tickets["own-folders"]["removable"]["size"] > 10 * 2**30
    pictures = {line["category"]: line for line in json.loads(lines["vet-xray"])}["downloads"]
    assert {stay["reason"] for stay in pictures["kept"]} == {"off", "protected"}
    pottery = {line["category"]: line for line in json.loads(lines["pottery-mac"])}
    assert pottery["local-snapshots"]["total"]["size"] == pytest.approx(60 * 2**30, rel=0.01)


@pytest.fixture(scope="module")
def made_anew(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A demo that was there is thrown away for a new one, by the command."""
    data = tmp_path_factory.mktemp("anew") / "demo"
    data.mkdir()
    for name in ("made", "owner.token"):
        (data / name).write_text("before")
    assert "Made the demo shop" in demo(data, free_port(), "--only-make", "--fresh").stdout
    return data


@pytest.fixture
def live(made_anew: Path, tmp_path: Path) -> Iterator[tuple[Phylax, Path]]:
    with living_demo(made_anew, tmp_path / "out") as shop:
        yield shop, made_anew
    shutil.rmtree(made_anew)


def test_it_is_made_anew_when_asked(made_anew: Path) -> None:
    assert (made_anew / "owner.token").read_text() != "before"


def test_a_living_machine_is_cleaned_while_one_watches(live: tuple[Phylax, Path]) -> None:
    shop, data = live
    assert re.match(r"(Four|Five|Six|Seven|Eight) machines need attention\.", shop.today().sentence)
    causes = {(a.machine_tag, a.cause.value) for a in shop.attention.list()}
    assert {
        ("vet-xray", "nearly full"), ("ferry-tickets", "filling fast"),
        ("boatyard-cad", "nearly full"), ("museum-kiosk", "missed"),
        ("choir-server", "needs approval"), ("oakes-laptop", "nearly full"),
    } <= causes  # fmt: skip
    run = shop.runs.clean("oakes-laptop", ["trash"])
    steps = {
        state.progress.step for state in shop.runs.follow(run.id, every=0.05) if state.progress
    }
    ended = shop.runs.get(run.id)
    assert ended.state == "done" and ended.removed == ended.expected
    # what the trash wrote down about each deleted thing goes with it
    assert ended.removed.size <= ended.freed < ended.removed.size + 8192
    assert ended.freed > 8 * 2**30
    assert "second look" in steps
    assert shop.machines.get("oakes-laptop").volumes[0].free == ended.after[0].free
    # it writes readings meanwhile, which leave with its next call
    spool = data / "agents/oakes-laptop/spool"
    wait_until(lambda: not list(spool.glob("*.json")), "everything to be sent")


def demo(data: Path, port: int, *words: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "phylax", "demo", "--data", str(data), "--port", str(port)]
    return subprocess.run([*command, *words], capture_output=True, text=True, timeout=300)


def test_it_goes_on_from_what_is_there(tmp_path: Path) -> None:
    data = tmp_path / "demo"
    data.mkdir()
    # as one that was made before: what is in it, nobody asks here
    for name in ("made", "owner.token"):
        (data / name).write_text("before")
    again = demo(data, free_port(), "--only-make")
    assert again.stdout == "" and (data / "owner.token").read_text() == "before"


def test_a_folder_that_is_no_demo_is_never_thrown_away(tmp_path: Path) -> None:
    thesis = tmp_path / "thesis.odt"
    thesis.write_text("years of work")
    ended = demo(tmp_path, free_port(), "--fresh")
    assert ended.returncode == 1 and "no demo of ours" in ended.stderr
    assert thesis.read_text() == "years of work"


def test_a_taken_port_is_said(made: Path) -> None:
    (made / "made").write_text("")
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        ended = demo(made, taken.getsockname()[1])
    assert ended.returncode == 1 and "is taken" in ended.stderr
