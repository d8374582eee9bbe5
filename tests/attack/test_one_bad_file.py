"""One bad name, message, note, date or file of another version costs only itself."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from engine import Bench, NothingRuns, rule
from helpers import enrol, make_file, make_standin
from people import ANNA, PeopleDesk, give
from phylax.agent.files.walk import DEEPEST
from phylax.agent.hold.index import HeldFor, HoldIndex
from phylax.agent.outbox.spool import Spool
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.ground.readings import ReadingIn
from phylax.core.protocol import ReadingsMessage
from phylax.core.retention import ProtectEntry, ProtectKind

NOW = {"keep_for": "P0D"}


def reading(number: int) -> ReadingsMessage:
    at = datetime(2026, 3, 2, tzinfo=UTC)
    return ReadingsMessage(
        id=f"message-{number:04d}", readings=(ReadingIn(mount="/", capacity=9, free=1, at=at),)
    )


@pytest.mark.parametrize(
    "odd",
    [
        b"", b"\0" * 4096, b"{}", b"[" * 10_000, b"\xff\xfe", b'{"kind": "of another version"}',
        b'{"kind": "readings", "id": "message-0009", "more": 1}',
    ],
)  # fmt: skip
def test_an_odd_message_is_put_aside_and_the_others_are_sent(tmp_path: Path, odd: bytes) -> None:
    spool = Spool(tmp_path)
    spool.put(reading(1))
    (tmp_path / "000000000002.json").write_bytes(odd)
    (tmp_path / "not a number.json").write_bytes(odd)
    again = Spool(tmp_path)
    again.put(reading(3))
    assert [single.message.id for single in again.waiting()] == ["message-0001", "message-0003"]
    assert len(list((tmp_path / "refused").iterdir())) == 2


@pytest.mark.parametrize(
    "odd",
    [
        '{"begun": {"order": {"kind": "of another version"}}}\n', '{"begun": 7}\n', "[]\n",
        '{"begun": {"order": {"kind": "clean", "run_id": 4}}}\n{"sums": 1}\n', "{}\n",
    ],
)  # fmt: skip
def test_an_odd_journal_is_put_aside_and_the_agent_works(
    owner: Phylax, machine: Machine, tmp_path: Path, odd: str
) -> None:
    make_standin(tmp_path / "m")
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    runs = tmp_path / "agent/runs"
    runs.mkdir()
    (runs / "4.jsonl").write_text(odd)
    run = owner.runs.survey(machine.tag)
    assert agent.once()
    assert owner.runs.get(run.id).state.has_ended
    assert [path.name for path in (runs / "refused").iterdir()] == ["4.jsonl"]


@pytest.mark.parametrize(
    "spoil",
    [
        lambda batch: (batch / "manifest.jsonl").write_text(""),
        lambda batch: (batch / "manifest.jsonl").write_text("[1, 2]\n"),
        lambda batch: (batch / "manifest.jsonl").write_text('{"version": 99}\n'),
        lambda batch: (batch / "manifest.jsonl").unlink(),
        lambda batch: (batch / "manifest.jsonl").open("a").write('{"first": "x", "things": 3}\n'),
        lambda batch: (batch / "manifest.jsonl").open("ab").write(b'{"first": 9, "thi\xff'),
    ],
)
def test_a_spoilt_batch_costs_only_itself(tmp_path: Path, spoil: Callable[[Path], object]) -> None:
    home = tmp_path / "anna"
    (tmp_path / "runs").mkdir()
    bench = Bench(NothingRuns([str(home)]), tmp_path / "runs")
    make_file(home / ".tmp/first", days_old=9)
    bench.clean("user-temp", hold_for="P3D")
    (folder,) = bench.hold.folders()
    (name,) = os.listdir(folder)
    spoil(Path(folder, name))
    make_file(home / "Downloads/second", days_old=90)
    bench.look("downloads", **NOW)
    outcome, _ = bench.clean(
        "downloads", agreed=list(bench.listing), hold_for="P3D", **NOW
    )  # fmt: skip
    assert outcome.held.count == 1
    held = [one.name for batch in bench.hold.batches() for one in batch.held()]
    assert held in (["second"], ["first", "second"], ["second", "first"])
    # whatever its manifest says, the thing itself is not lost
    assert list(Path(folder).glob("*/things/0/1"))


def test_an_odd_note_of_what_is_held_is_put_aside(tmp_path: Path) -> None:
    index, at = HoldIndex(tmp_path), datetime(2026, 3, 2, tzinfo=UTC)
    entry = HeldFor(
        batch=f"1.user-temp.{'0' * 24}", uid=ANNA, gid=ANNA, person="anna", home="/h", folder="/f",
        run_id=1, run="r", category="user-temp", mount="/", held_at=at,
        until_at=at + timedelta(days=3),
    )  # fmt: skip
    index.put(entry)
    (tmp_path / "1.trash.00.json").write_text('{"batch": "of another version"}')
    assert list(index.entries()) == [entry]
    assert [path.suffix for path in tmp_path.iterdir()].count(".odd") == 1


def test_names_that_are_no_text_at_any_level_are_sent_and_cleaned(tmp_path: Path) -> None:
    home = Path(os.fsdecode(os.fsencode(tmp_path) + b"/ann\xff"))
    (tmp_path / "runs").mkdir()
    bench = Bench(NothingRuns([str(home)]), tmp_path / "runs")
    folder = home / os.fsdecode(b".tmp/d\xfe\n")
    old = make_file(folder / os.fsdecode(b"old\xc3"), days_old=9)
    make_file(folder / os.fsdecode(b"young\xc3"))
    kept = make_file(folder / os.fsdecode(b"kept\xc3"), days_old=9)
    (home / os.fsdecode(b"Downloads")).mkdir()
    made = make_file(home / "Downloads" / os.fsdecode(b"asked\xc3"), days_old=99)
    with kept.open():
        line = bench.look("user-temp")
        assert line is not None and line.model_dump_json() and line.removable.count == 1
        _, cleaner = bench.clean("user-temp")
        assert all(left.model_dump_json() for left in cleaner.outcomes.named)
        assert len(cleaner.outcomes.named) == 1
    bench.look("downloads", **NOW)
    assert [item.model_dump_json() != "" for item in bench.listing] == [True]
    bench.clean("downloads", agreed=list(bench.listing), **NOW)
    assert not old.exists() and not made.exists() and kept.exists()


@pytest.mark.parametrize("second", [-(2**40), -1, 0, 2**33, 2**35, 10**12, 2**62])
def test_times_outside_the_calendar_are_looked_at_and_never_stop_a_look(
    desk: PeopleDesk, home: Path, second: int
) -> None:
    path = give(make_file(home / "Downloads/odd"), ANNA)
    give(home, ANNA)
    try:
        os.utime(path, (second, second))
    except OverflowError:
        pytest.skip("no file can have this time")
    lines = desk.look({"downloads": rule(**NOW)})
    assert sum(line.total.count for line in lines) == 1
    (item,) = desk.listing()
    assert item.model_dump_json()


# --- what people write down to protect -----------------------------------------------------------


@pytest.mark.parametrize(
    "written",
    [
        "{home}/.tmp/keep", "{home}//.tmp/./keep/", "{way}/.tmp/keep", "{way}/../anna/.tmp/keep",
        "{link}", "{home}/.tmp/keep/a\nb",
    ],
)  # fmt: skip
def test_an_entry_protects_however_it_is_written(
    desk: PeopleDesk, home: Path, written: str
) -> None:
    kept = make_file(home / ".tmp/keep/a\nb/file", days_old=9)
    gone = make_file(home / ".tmp/gone", days_old=9)
    give(home, ANNA)
    way, link = desk.volume / "way", desk.volume / "link"
    way.symlink_to(home)
    link.symlink_to(home / ".tmp/keep")
    what = written.format(home=home, way=way, link=link)
    if "/../" in what:
        with pytest.raises(ValueError, match="without"):
            ProtectEntry(kind=ProtectKind.FOLDER, pattern=what)
        return
    entry = ProtectEntry(kind=ProtectKind.FOLDER, pattern=what)
    desk.clean({"user-temp": rule(**NOW)}, protect=(entry,))
    assert kept.exists() and not gone.exists()


def test_a_folder_is_protected_whatever_capitals_it_is_reached_by(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    home = tmp_path / "anna"
    (tmp_path / "runs").mkdir()
    kept = make_file(home / ".tmp/archive/deep/file", days_old=9)

    class KnowsNoCapitals(NothingRuns):
        """As on a volume where names differ by capitals alone and mean the same."""

        def real_folder(self, shown: str) -> str | None:
            return shown.lower().replace(str(tmp_path).lower(), str(tmp_path))

    entry = ProtectEntry(kind=ProtectKind.FOLDER, pattern=f"{home}/.TMP/Archive")
    bench = Bench(KnowsNoCapitals([str(home)]), tmp_path / "runs", protect=[entry])
    outcome, _ = bench.clean("user-temp")
    assert kept.exists()
    assert {stay.reason: stay.count for stay in outcome.left} == {"protected": 1}


def test_what_lies_too_deep_is_left_and_named_and_the_rest_is_done(
    desk: PeopleDesk, home: Path
) -> None:
    beside = make_file(home / ".cache/app/beside")
    top = home / ".cache/app/deep"
    top.mkdir()
    handle = os.open(top, os.O_RDONLY)
    for _ in range(DEEPEST + 1100):
        os.mkdir("d", dir_fd=handle)
        inner = os.open("d", os.O_RDONLY, dir_fd=handle)
        os.close(handle)
        handle = inner
    os.close(os.open("bottom", os.O_WRONLY | os.O_CREAT, dir_fd=handle))
    os.close(handle)
    subprocess.run(["chown", "-R", f"{ANNA}:{ANNA}", home], check=True)
    try:
        by = {"user-caches": rule(**NOW)}
        (line,) = desk.look(by)
        (unread,) = line.unread
        assert unread.why == "lies too deep to be looked at" and unread.path.endswith("/d/d/d")
        assert not desk.clean(by).error and not beside.exists() and top.exists()
    finally:
        subprocess.run(["rm", "-rf", top], check=True)
