"""A batch's manifest on the disk: written into room made before, whole after any stop."""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from engine import Bench, NothingRuns
from helpers import make_file
from phylax.agent import files
from phylax.agent.hold.batch import IN_A_PART, MANIFEST, Batch, BatchHead
from phylax.agent.hold.manifest import Manifest, begin_manifest


def lines_of(path: Path) -> list[bytes]:
    return [line for line in path.read_bytes().rstrip(b"\0").split(b"\n") if line]


@pytest.fixture
def path(tmp_path: Path) -> Path:
    path = tmp_path / MANIFEST
    begin_manifest(str(path), b"first")
    return path


def test_what_is_added_stands_after_the_rest_and_no_room_is_left_behind(path: Path) -> None:
    manifest = Manifest(str(path))
    manifest.add(b"second")
    manifest.add(b"x" * 200_000)
    assert path.stat().st_size > 200_100, "room for more"
    manifest.close()
    again = Manifest(str(path))
    again.add(b"last")
    again.close()
    assert lines_of(path) == [b"first", b"second", b"x" * 200_000, b"last"]
    assert path.read_bytes().endswith(b"last\n")


@pytest.mark.parametrize("cut", [b"", b"tor", b"torn\n"])
def test_after_a_stop_in_the_middle_lines_go_on(path: Path, cut: bytes) -> None:
    manifest = Manifest(str(path))
    manifest.add(b"second")
    end = len(b"first\nsecond\n")
    # never closed: what was made room for is there, and perhaps a part of a line in it
    with path.open("r+b") as file:
        file.seek(end)
        file.write(cut)
    again = Manifest(str(path))
    again.add(b"third")
    again.close()
    torn = [cut.strip()] if cut else []
    assert lines_of(path) == [b"first", b"second", *torn, b"third"]


@pytest.mark.parametrize("room", [0, 3, 10])
def test_without_room_a_line_is_not_there_and_the_next_one_is(
    path: Path, monkeypatch: pytest.MonkeyPatch, room: int
) -> None:
    manifest = Manifest(str(path))
    append: Callable[[int, bytes], bytes] = files.append

    def full(handle: int, text: bytes) -> bytes:
        append(handle, text[:room])
        return text[room:]

    with monkeypatch.context() as patch:
        patch.setattr(files, "append", full)
        with pytest.raises(OSError, match="No space"):
            manifest.add(b"too much for it")
    manifest.add(b"second")
    manifest.close()
    assert [line for line in lines_of(path) if b"too" not in line] == [b"first", b"second"]


def test_a_line_is_on_the_disk_before_it_is_relied_on(
    path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    actions: list[str] = []
    monkeypatch.setattr(files, "step", actions.append)
    manifest = Manifest(str(path))
    for _ in range(3):
        manifest.add(b"more")
        assert actions[-2:] == ["append", "sync"]
    manifest.close()


def test_numbers_announced_together_lie_in_one_part(tmp_path: Path) -> None:
    home, runs = tmp_path / "anna", tmp_path / "runs"
    runs.mkdir()
    for folder, count in (("a", 300), ("b", 300), ("c", 2)):
        for number in range(count):
            make_file(home / f".tmp/{folder}/{number}", days_old=9)
    bench = Bench(NothingRuns([str(home)]), runs)
    bench.clean("user-temp", hold_for="P3D")
    by_folder: dict[str, set[int]] = {}
    for batch in bench.hold.batches():
        for entry in batch.held():
            by_folder.setdefault(entry.folders[-1], set()).add(entry.number // IN_A_PART)
        assert batch.tally().count == 602
    assert len(by_folder) == 3 and all(len(parts) == 1 for parts in by_folder.values())


def test_a_batch_of_the_earlier_layout_is_held_put_back_and_goes(tmp_path: Path) -> None:
    home = tmp_path / "anna"
    for number in (1, 2):
        make_file(home / f".tmp/{number}", 1000 * number, days_old=9)
    runs = tmp_path / "runs"
    runs.mkdir()
    bench = Bench(NothingRuns([str(home)]), runs)
    bench.clean("user-temp", hold_for="P3D")
    (batch,) = bench.hold.batches()
    folder = Path(batch.path)
    for thing in list((folder / "things/0").iterdir()):
        thing.rename(folder / "things" / thing.name)
    (folder / "things/0").rmdir()
    manifest = folder / MANIFEST
    manifest.write_text(manifest.read_text().replace('"version":2', '"version":1', 1))
    batch = Batch.open(os.path.dirname(batch.path), batch.name)
    first, second = batch.held()
    assert not batch.is_empty and batch.tally().count == 2
    batch.put_back(first, beside=False)
    assert batch.let_go(second.number, lambda path, why: None).whole
    assert batch.is_empty and batch.sweep_up() and not folder.exists()
    assert [path.name for path in (home / ".tmp").iterdir()] == [first.name]


def test_of_a_layout_that_is_not_known_nothing_is_touched(tmp_path: Path) -> None:
    now = datetime(2026, 3, 2, tzinfo=UTC)
    head = BatchHead(run_id=1, category="trash", mount="/", held_at=now, until_at=now)
    batch = Batch.make(str(tmp_path), "1.trash.00000000", head)
    batch.close()
    manifest = Path(batch.path, MANIFEST)
    manifest.write_text(manifest.read_text().replace('"version":2', '"version":3', 1))
    with pytest.raises(ValueError, match="version"):
        Batch.open(str(tmp_path), batch.name)
