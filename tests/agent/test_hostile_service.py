"""A service in the wrong hands, and a program on the machine that plays along: nothing outside the
catalogue's places is touched, and it is said."""

from __future__ import annotations

import json
import mmap
import os
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import pytest

from engine import Bench, NothingRuns
from helpers import make_file, make_standin, trashed
from phylax.agent.config.guard import (
    GUARD_FILE,
    GuardRules,
    LooseGuardError,
    read_rules,
    write_rules,
)
from phylax.agent.config.home import AgentConfig, AgentHome
from phylax.agent.runtime.loop import Agent
from phylax.core.catalogue import catalogue
from phylax.core.retention import Reason, Scope, in_force

SWAPS, PASSES = 10_000, 3_000


# --- links swapped in by a racing process ----------------------------------------------------


@contextmanager
def swapping(folder: Path, target: Path) -> Iterator[mmap.mmap]:
    """A process that makes of a folder a link to the target and a folder again, as fast as it can;
    the count of swaps is the number in the map. Files are put into the folder now and then."""
    count = mmap.mmap(-1, 8)
    aside = folder.with_name("aside")
    link = folder.with_name("link")
    child = os.fork()
    if child == 0:
        swaps = 0
        while True:
            with suppress(OSError):
                os.rename(folder, aside)
                os.symlink(target, link)
                os.rename(link, folder)
                swaps += 1
            with suppress(OSError):
                os.unlink(folder)
            with suppress(OSError):
                os.rename(aside, folder)
            with suppress(OSError):
                os.mkdir(folder)
            if swaps % 20 == 0:
                for name in ("letter.odt", "photo.jpg"):
                    with suppress(OSError):
                        handle = os.open(folder, os.O_DIRECTORY | os.O_NOFOLLOW)
                        file = os.open(name, os.O_CREAT | os.O_WRONLY, 0o600, dir_fd=handle)
                        os.utime(file, (0, 0))
                        os.close(file)
                        os.close(handle)
                # long enough for a cleaning to begin in it
                time.sleep(0.001)
            count[:] = swaps.to_bytes(8, "big")
    try:
        yield count
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


@pytest.mark.parametrize("said", [{}, {"hold_for": "P3D"}], ids=["for good", "into the hold"])
@pytest.mark.parametrize("at", ["a folder of a place", "the place itself"])
def test_ten_thousand_swaps_lead_nowhere(tmp_path: Path, at: str, said: dict[str, str]) -> None:
    home = tmp_path / "anna"
    outside = {
        make_file(home / f"Documents/{name}", 1000, days_old=300).name: 1000
        for name in ("letter.odt", "photo.jpg", "deep.txt")
    }
    swapped = home / ".tmp" if at == "the place itself" else home / ".tmp/deep"
    make_file(swapped / "letter.odt", days_old=300)
    it = Bench(NothingRuns([str(home)]), tmp_path)
    # its places are found once; then it goes over them again and again, as fast as it can
    outcome, cleaner = it.clean("user-temp", **said)
    assert outcome.removed.count + outcome.held.count == 1
    passes = 0
    with swapping(swapped, home / "Documents") as count:
        while int.from_bytes(count[:], "big") < SWAPS or passes < PASSES:
            cleaner.clean("user-temp")
            passes += 1
            found = {path.name: path.stat().st_size for path in (home / "Documents").iterdir()}
            assert found == outside, f"after {passes} passes"
    after = cleaner.outcome("user-temp")
    assert after.removed.count + after.held.count > 1, "it never met the folder as a folder"
    for batch in it.hold.batches():
        for entry in batch.held():
            with suppress(OSError):
                batch.put_back(entry, beside=True)
    found = {path.name: path.stat().st_size for path in (home / "Documents").iterdir()}
    assert found == outside


@pytest.mark.skipif(os.geteuid() != 0, reason="giving files to others needs root")
def test_a_link_above_the_place_leads_nowhere_either(tmp_path: Path) -> None:
    """The trash lies three folders deep in the home; the first of them is swapped."""
    home, outside = tmp_path / "anna", tmp_path / "outside"
    (home / "Documents").mkdir(parents=True)
    kept = trashed(outside, "letter.odt", 1000, days_ago=300)
    (outside / ".local").rename(outside / "local")
    kept = outside / "local/share/Trash/files" / kept.name
    trashed(home, "old.iso", 1000, days_ago=300)
    for folder, owner in ((home, 1234), (outside, 4321)):
        for path in (folder, *folder.rglob("*")):
            os.chown(path, owner, owner)
    it = Bench(NothingRuns([str(home)]), tmp_path)
    _, cleaner = it.clean("trash", keep_for="P1D")
    passes = 0
    with swapping(home / ".local", outside / "local") as count:
        while int.from_bytes(count[:], "big") < SWAPS or passes < PASSES:
            cleaner.clean("trash")
            passes += 1
            assert kept.exists(), f"after {passes} passes"


@pytest.mark.skipif(os.geteuid() != 0, reason="giving files to others needs root")
def test_a_link_of_ones_own_to_another_disk_is_followed(tmp_path: Path) -> None:
    home, disk = tmp_path / "anna", tmp_path / "disk"
    thing = trashed(disk, "old.iso", 1000, days_ago=300)
    home.mkdir()
    (home / ".local").symlink_to(disk / ".local")
    for path in (home, disk, *disk.rglob("*")):
        os.chown(path, 1234, 1234)
    it = Bench(NothingRuns([str(home)]), tmp_path)
    outcome, _ = it.clean("trash", keep_for="P1D")
    assert outcome.removed.count == 1 and not thing.exists()


# --- forged orders ---------------------------------------------------------------------------


class Hostile(BaseHTTPRequestHandler):
    """A service that hands out whatever a test tells it to."""

    orders: ClassVar[list[Any]] = []
    told: ClassVar[list[Any]] = []

    def do_GET(self) -> None:
        body = json.dumps(self.orders.pop(0)).encode() if self.orders else b""
        self.send_response(200 if body else 204)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_POST(self) -> None:
        said = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        self.told.append(json.loads(said))
        body = b'{"go_on": true}'
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        """Tests are quiet."""


@pytest.fixture
def hostile() -> Iterator[str]:
    Hostile.orders.clear()
    Hostile.told.clear()
    server = ThreadingHTTPServer(("127.0.0.1", 0), Hostile)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    server.server_close()


@pytest.fixture
def home(tmp_path: Path) -> Path:
    home = make_standin(tmp_path / "m")
    make_file(home / "Documents/letter.odt", days_old=300)
    make_file(home / "Downloads/film.mkv", days_old=300)
    return home


@pytest.fixture
def agent(tmp_path: Path, hostile: str, home: Path) -> Agent:
    folder = AgentHome(tmp_path / "agent")
    config = AgentConfig(
        url=hostile, tag="m", machine_id=1, kind="standin", standin=str(tmp_path / "m")
    )
    folder.save(config, "key")
    return Agent(folder)


def everything_in(folder: Path) -> dict[str, int]:
    paths = (path for path in folder.rglob("*") if path.is_file())
    return {str(path): path.stat().st_size for path in paths}


def order(*, clean: list[str], **more: Any) -> dict[str, Any]:
    rules = [
        {"category": key, "rule": in_force([(Scope.CATALOGUE, kind.rule)]).model_dump(mode="json")}
        for key, kind in catalogue().items()
    ]
    for one in rules:
        one["rule"] |= {"off": False, "keep_for": "PT0S", **more.get("rule", {})}
    return {
        "kind": "clean", "run_id": 7, "lease": "l", "rules": rules, "clean": clean,
        "standing": more.get("standing", []), "agreed": more.get("agreed", []),
        "survey_first": False, "protect": [],
    }  # fmt: skip


def agreed(place: str, path: str) -> list[dict[str, Any]]:
    seal = {"device": 1, "file": 1, "size": 1000, "modified_ns": 1}
    item = {"place": place, "path": path, "size": 1000, "seal": seal}
    return [{"category": "downloads", "consent_id": 1, "items": [item]}]


@pytest.mark.parametrize(
    "sent",
    [
        {"kind": "run", "command": "rm -rf /"},
        {"kind": "clean"},
        {"kind": "put back", "run_id": 1, "lease": "l", "picks": [{"batch": "../../etc"}]},
        {"kind": "put back", "run_id": 1, "lease": "l", "picks": [{"batch": "1.a.00000000\n"}]},
        ["no", "object"],
    ],
)
def test_what_is_no_order_is_refused_and_nothing_is_done(
    agent: Agent, home: Path, sent: Any
) -> None:
    from phylax.client import NotAnOrderError

    before = everything_in(home)
    Hostile.orders.append(sent)
    with pytest.raises(NotAnOrderError, match="not an order"):
        agent.once()
    assert everything_in(home) == before


@pytest.mark.parametrize(
    ("place", "path"),
    [
        ("/home/anna/Downloads", "../Documents/letter.odt"),
        ("/home/anna/Downloads", "/etc/hostname"),
        ("/home/anna/Documents", "letter.odt"),
        ("/", "home/anna/Documents/letter.odt"),
        ("/home/anna/Downloads", "film.mkv\n../Documents/letter.odt"),
        ("/home/anna/Downloads", "film.mkv\x00"),
        ("/home/anna/Downloads", "."),
        ("/home/anna/Downloads", ""),
        ("/dev", "sda"),
    ],
)
def test_forged_listings_remove_nothing_and_are_named(
    agent: Agent, home: Path, place: str, path: str
) -> None:
    before = everything_in(home)
    Hostile.orders.append(order(clean=["downloads"], agreed=agreed(place, path)))
    agent.once()
    assert everything_in(home) == before
    (result,) = [told for told in Hostile.told if told.get("kind") == "result"]
    (outcome,) = result["outcomes"]
    assert outcome["removed"]["count"] == 0
    assert sum(stay["count"] for stay in outcome["left"]) == 1
    if path not in ("film.mkv\n../Documents/letter.odt",):
        assert [one["reason"] for one in result["left"]] == [Reason.FORBIDDEN]


@pytest.mark.parametrize(
    ("clean", "rule"),
    [
        (["programs", "large-and-idle"], {}),
        (["downloads"], {}),
        (["own-folders"], {"folders": ["/home/anna/Documents"]}),
        (["no-such-category"], {}),
    ],
)
def test_forged_work_fails_and_says_why(
    agent: Agent, home: Path, clean: list[str], rule: dict[str, Any]
) -> None:
    before = everything_in(home)
    Hostile.orders.append(order(clean=clean, rule=rule))
    agent.once()
    assert everything_in(home) == before
    (result,) = [told for told in Hostile.told if told.get("kind") == "result"]
    assert result["error"]


@pytest.mark.parametrize(
    "folder", ["/home/anna/Documents", "/home/anna", "/", "/home/anna/Documents/../Documents"]
)
def test_a_folder_that_the_machine_does_not_allow_is_not_the_shops_to_name(
    agent: Agent, home: Path, folder: str
) -> None:
    before = everything_in(home)
    sent = order(clean=["own-folders"], standing=["own-folders"], rule={"folders": [folder]})
    Hostile.orders.append(sent)
    agent.once()
    assert everything_in(home) == before


def test_held_things_of_others_are_not_to_be_had(agent: Agent, home: Path) -> None:
    Hostile.orders.append(
        {"kind": "let go", "run_id": 8, "lease": "l", "picks": [{"batch": "1.trash.00000000"}]}
    )
    agent.once()
    (result,) = [told for told in Hostile.told if told.get("kind") == "result"]
    assert result["outcomes"][0]["removed"]["count"] == 0
    assert result["outcomes"][0]["left"][0]["reason"] == Reason.GONE


# --- the machine's own rules -----------------------------------------------------------------


def test_the_machines_own_rules_forbid_categories_and_folders(
    tmp_path: Path, hostile: str, agent: Agent, home: Path
) -> None:
    make_file(home / ".tmp/old", days_old=9)
    make_file(home / ".cache/drawing/old", days_old=99)
    rules = GuardRules(never_categories=("user-temp",), never_touch=(str(home / ".cache/drawing"),))
    write_rules(tmp_path / "agent", rules)
    before = everything_in(home)
    Hostile.orders.append(order(clean=["user-temp", "user-caches"]))
    Agent(AgentHome(tmp_path / "agent")).once()
    assert everything_in(home) == before
    (result,) = [told for told in Hostile.told if told.get("kind") == "result"]
    assert "guard.toml" in result["error"]


def test_nobody_but_the_administrator_can_widen_the_guard(tmp_path: Path) -> None:
    write_rules(tmp_path, GuardRules(allow_folders=("/srv/scans",)))
    assert read_rules(tmp_path).allow_folders == ("/srv/scans",)
    with pytest.raises(FileExistsError):
        write_rules(tmp_path, GuardRules())
    path = tmp_path / GUARD_FILE
    for mode in (0o620, 0o602, 0o666):
        path.chmod(mode)
        with pytest.raises(LooseGuardError, match="written by others"):
            read_rules(tmp_path)
    path.chmod(0o600)
    tmp_path.chmod(0o777)
    with pytest.raises(LooseGuardError, match="written by others"):
        read_rules(tmp_path)
    tmp_path.chmod(0o700)
    elsewhere = tmp_path / "elsewhere"
    path.rename(elsewhere)
    path.symlink_to(elsewhere)
    with pytest.raises(LooseGuardError, match="link"):
        read_rules(tmp_path)


def test_a_guard_file_that_says_nonsense_is_refused(tmp_path: Path) -> None:
    (tmp_path / GUARD_FILE).write_text("hold_at_most_percent = 80\n")
    (tmp_path / GUARD_FILE).chmod(0o600)
    with pytest.raises(ValueError, match="less than or equal to 50"):
        read_rules(tmp_path)
