"""Many things of one folder are noted at once: one wait for the disk, and each still looked at
right before it goes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from engine import Bench, ByContents, NothingRuns
from helpers import make_file, trashed
from phylax.agent.hold.manifest import Manifest
from phylax.agent.machines import InUse

MANY = 1200


@pytest.fixture
def notes(monkeypatch: pytest.MonkeyPatch) -> Callable[[], int]:
    """How many lines of manifests were written, each with its wait for the disk."""
    written: list[bytes] = []
    add = Manifest.add

    def counted(manifest: Manifest, line: bytes) -> None:
        written.append(line)
        add(manifest, line)

    monkeypatch.setattr(Manifest, "add", counted)
    return lambda: len(written)


@pytest.fixture
def home(tmp_path: Path) -> Path:
    (tmp_path / "anna").mkdir()
    return tmp_path / "anna"


def test_a_full_trash_is_noted_in_portions(
    tmp_path: Path, home: Path, notes: Callable[[], int]
) -> None:
    for number in range(MANY):
        trashed(home, f"letter {number}", 100, days_ago=90)
    bench = Bench(NothingRuns([str(home)]), tmp_path)
    outcome, _ = bench.clean("trash")
    assert outcome.removed.count == MANY, outcome
    assert not list((home / ".local/share/Trash/info").iterdir()), "their notes went along"
    assert notes() == 3


def test_agreed_files_of_a_folder_are_noted_in_portions(
    tmp_path: Path, home: Path, notes: Callable[[], int]
) -> None:
    for number in range(MANY):
        make_file(home / f"Downloads/{number % 2}/{number}.iso", days_old=400)
    bench = Bench(NothingRuns([str(home)]), tmp_path)
    bench.look("downloads")
    in_any_order = sorted(bench.listing, key=lambda item: int(item.path.split("/")[1][:-4]))
    outcome, _ = bench.clean("downloads", agreed=in_any_order)
    assert outcome.removed.count == MANY, outcome
    assert notes() == 2 * 2, "600 of each folder"


def test_large_files_go_in_smaller_portions(
    tmp_path: Path, home: Path, notes: Callable[[], int], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Between two of them the work can be called off."""
    monkeypatch.setattr("phylax.agent.cleaning.consented._BYTES_AT_ONCE", 3 * 4096)
    for number in range(8):
        make_file(home / f"Downloads/{number}.iso", 4096, days_old=400)
    bench = Bench(NothingRuns([str(home)]), tmp_path)
    bench.look("downloads")
    outcome, _ = bench.clean("downloads", agreed=bench.listing)
    assert outcome.removed.count == 8, outcome
    assert notes() == 2


def test_what_is_opened_while_its_portion_goes_stays(tmp_path: Path, home: Path) -> None:
    """Noted with the others, asked again when its turn comes."""
    things = [trashed(home, f"letter {number}", 100, days_ago=90) for number in range(5)]
    (last,) = [path for path in things if path.name == "letter 4"]
    opened = last.stat()

    class OpensTheLast(ByContents):
        def in_use(self) -> InUse:
            is_open = not things[0].exists()
            return InUse(frozenset({(opened.st_dev, opened.st_ino)} if is_open else ()))

    bench = Bench(OpensTheLast([str(home)]), tmp_path)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("phylax.agent.cleaning.remover.REFRESH", -1.0)
        outcome, _ = bench.clean("trash")
    assert outcome.removed.count == 4, outcome
    assert last.exists()
    assert [(stay.reason, stay.count) for stay in outcome.left] == [("in use", 1)]
