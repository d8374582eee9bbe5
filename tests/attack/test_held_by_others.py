"""What is held where other people, other volumes and other folders are in the way."""

from __future__ import annotations

import json
import os
import shutil
import stat
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from helpers import make_file
from people import ANNA, BEN, PeopleDesk, give, mounted
from phylax.agent.machines import HOLD
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.hold.holds import BatchPick, IfTaken
from phylax.core.protocol import (
    CategoryRule,
    CleanOrder,
    HeldOrder,
    ResultMessage,
    SurveyMessage,
    SurveyOrder,
)
from phylax.core.retention import Reason, RuleInForce
from phylax.core.retention.rules import LONGEST_HOLD

HELD = {"user-temp": RuleInForce(off=False, keep_for=timedelta(0), hold_for=timedelta(days=3))}
SHARED = "size=64m,mode=1777"


@pytest.fixture
def shared(tmp_path: Path, fork_server: ForkServer) -> Iterator[PeopleDesk]:
    """A volume at whose top everybody may make folders."""
    with mounted("tmpfs", tmp_path / "volume", "-o", SHARED) as volume:
        yield PeopleDesk(volume, tmp_path / "own", fork_server)


def of(desk: PeopleDesk, name: str, uid: int, count: int = 2) -> Path:
    home = desk.home(name, uid)
    for number in range(count):
        make_file(home / f".tmp/{number}", 4096, days_old=9)
    return give(home, uid)


def held(desk: PeopleDesk, kind: str, run_id: int = 9, **more: object) -> ResultMessage:
    picks = tuple(BatchPick(batch=entry.batch) for entry in desk.index.entries())
    order = HeldOrder(kind=kind, run_id=run_id, lease="l", picks=picks, **more)  # type: ignore[arg-type]
    return desk.carry_out(order)


def left_by(result: ResultMessage) -> dict[str, int]:
    return {
        stay.reason: stay.count
        for outcome in result.outcomes
        for stay in outcome.left
        if stay.count
    }


@pytest.mark.parametrize("taken_by", ["folder", "file", "link"])
def test_a_name_that_somebody_took_at_the_top_stops_nobody(
    shared: PeopleDesk, taken_by: str
) -> None:
    home = of(shared, "anna", ANNA)
    taken = shared.volume / HOLD
    match taken_by:
        case "folder":
            taken.mkdir(0o777)
        case "file":
            taken.touch()
        case "link":
            taken.symlink_to("/etc")
    os.lchown(taken, BEN, BEN)
    result = shared.clean(HELD)
    assert [(o.held.count, left_by(result)) for o in result.outcomes] == [(2, {})]
    assert not (home / ".tmp/0").exists()
    (entry,) = shared.index.entries()
    assert stat.S_IMODE(Path(entry.folder).stat().st_mode) == 0o700
    assert Path(entry.folder).parent.stat().st_uid == 0
    result = held(shared, "put back")
    assert [(o.put_back.count, o.put_back.size) for o in result.outcomes] == [(2, 8192)]
    assert (home / ".tmp/0").exists()


def test_what_somebody_forged_in_a_folder_of_that_name_is_never_believed(
    shared: PeopleDesk, tmp_path: Path
) -> None:
    """A manifest says where things go back to: root never moves anything by one of another's."""
    of(shared, "anna", ANNA)
    target = tmp_path / "system"
    target.mkdir(mode=0o755)
    batch = shared.volume / HOLD / f"1.user-temp.{'a' * 24}"
    part = batch / "things/0"
    part.mkdir(parents=True)
    (part / "1").write_text("a program of mine\n")
    at = datetime.now(UTC)
    head = {
        "version": 2, "run_id": 1, "category": "user-temp", "mount": str(shared.volume),
        "held_at": at.isoformat(), "until_at": at.isoformat(), "aside": True, "run": "x",
    }  # fmt: skip
    things = {
        "first": 1, "root": str(target), "place": "x", "folders": [], "below": 0,
        "chain": [[0o755, 0, 0]], "things": [["preload", 18]],
    }  # fmt: skip
    (batch / "manifest.jsonl").write_text(f"{json.dumps(head)}\n{json.dumps(things)}\n")
    give(shared.volume / HOLD, BEN)
    shared.take_up()
    shared.clean(HELD)
    shared.expire(days=400)
    assert list(target.iterdir()) == []
    assert (part / "1").exists(), "nor is anything of it removed with root's rights"


def test_a_persons_own_disk_is_cleaned_by_their_worker(
    tmp_path: Path, fork_server: ForkServer
) -> None:
    """Its top belongs to them: they may swap every folder there, which is theirs to do."""
    options = f"size=64m,mode=755,uid={ANNA},gid={ANNA}"
    with mounted("tmpfs", tmp_path / "volume", "-o", options) as volume:
        desk = PeopleDesk(volume, tmp_path / "own", fork_server)
        home = of(desk, "anna", ANNA)
        result = desk.clean(HELD)
        assert [o.held.count for o in result.outcomes] == [2], left_by(result)
        (entry,) = desk.index.entries()
        assert Path(entry.folder).stat().st_uid == ANNA
        assert Path(entry.folder).stat().st_mode & 0o077 == 0
        assert [o.put_back.count for o in held(desk, "put back").outcomes] == [2]
        assert (home / ".tmp/1").exists()
        desk.clean(HELD, run_id=3)
        desk.expire(days=4)
        assert not list(Path(entry.folder).rglob("things/*/*"))


def test_what_several_people_get_back_is_told_as_their_sum(desk: PeopleDesk) -> None:
    of(desk, "anna", ANNA, 3)
    of(desk, "ben", BEN, 4)
    desk.clean(HELD)
    result = held(desk, "put back")
    (outcome,) = result.outcomes
    assert (outcome.put_back.count, outcome.put_back.size) == (7, 7 * 4096)
    desk.clean(HELD, run_id=3)
    result = held(desk, "let go")
    (outcome,) = result.outcomes
    assert (outcome.removed.count, outcome.removed.size) == (7, 7 * 4096)


def test_what_was_held_when_the_agent_was_cut_off_is_counted_by_what_lies_there(
    desk: PeopleDesk,
) -> None:
    of(desk, "anna", ANNA, 5)
    desk.clean(HELD)
    (entry,) = desk.index.entries()
    # as the agent's own list is where it was cut off before its worker said how much it holds
    desk.index.put(entry.model_copy(update={"count": 0, "size": 0}))
    desk.take_up()
    (counted,) = desk.index.entries()
    assert (counted.count, counted.size) == (5, 5 * 4096)


def test_a_volume_that_is_not_connected_loses_nothing_that_is_held(
    tmp_path: Path, fork_server: ForkServer
) -> None:
    stick = tmp_path / "volume"
    with mounted("tmpfs", stick, "-o", "size=64m,mode=755"):
        desk = PeopleDesk(stick, tmp_path / "own", fork_server)
        home = of(desk, "anna", ANNA)
        desk.clean(HELD)
        (entry,) = desk.index.entries()
        # another file system over it is as good as none: nothing of the one below can be seen
        with mounted("tmpfs", stick / HOLD, "-o", "size=1m,mode=755"):
            result = held(desk, "put back")
            assert left_by(result) == {Reason.AWAY: 2}
            assert result.left[0].detail.startswith("it stays held")
            desk.expire(days=400)
            desk.take_up()
            assert [e.batch for e in desk.index.entries()] == [entry.batch], "it is not gone"
        result = held(desk, "put back", run_id=10)
        assert [o.put_back.count for o in result.outcomes] == [2]
        assert (home / ".tmp/0").exists()


@pytest.mark.parametrize("change", ["somebody else's", "opened to others"])
def test_nothing_goes_back_into_a_folder_that_shows_it_to_others(
    desk: PeopleDesk, change: str
) -> None:
    home = desk.home("anna", ANNA)
    secret = home / ".tmp/private/letter"
    make_file(secret, 4096, days_old=9)
    (home / ".tmp/private").chmod(0o700)
    (home / ".tmp").chmod(0o777)
    give(home, ANNA)
    desk.clean(HELD)
    assert not secret.exists()
    folder = home / ".tmp/private"
    if folder.exists():
        folder.rmdir()
    folder.mkdir(0o755)
    folder.chmod(0o755)
    os.chown(folder, BEN if change == "somebody else's" else ANNA, ANNA)
    result = held(desk, "put back")
    assert not secret.exists()
    assert "put it back beside" in result.left[0].detail
    assert list(left_by(result).values()) == [1]
    result = held(desk, "put back", if_taken=IfTaken.BESIDE, run_id=10)
    assert [o.put_back.count for o in result.outcomes] == [1]
    beside = home / ".tmp/private (put back)"
    assert (beside / "letter").stat().st_size == 4096
    assert (stat.S_IMODE(beside.stat().st_mode), beside.stat().st_uid) == (0o700, ANNA)


def test_in_the_shops_own_folders_everybodys_things_are_their_workers(
    tmp_path: Path, fork_server: ForkServer
) -> None:
    with mounted("tmpfs", tmp_path / "volume", "-o", "size=64m,mode=755") as volume:
        desk = PeopleDesk(volume, tmp_path / "own", fork_server)
        desk.home("anna", ANNA)
        scans = volume / "scans"
        for name, uid in (("system", 0), ("annas", ANNA), ("nobodys", 3999)):
            give(make_file(scans / name, 4096, days_old=99), uid)
        scans.chmod(0o1777)
        rule = RuleInForce(
            off=False, keep_for=timedelta(0), hold_for=timedelta(days=3), folders=(str(scans),)
        )
        look = (CategoryRule(category="own-folders", rule=rule),)
        allowed = (str(scans),)
        desk.carry_out(SurveyOrder(run_id=1, lease="l", rules=look), allow_folders=allowed)
        lines = desk.messages(SurveyMessage)[-1].lines
        assert sum(line.total.count for line in lines) == 3, "each is listed once"
        order = CleanOrder(
            run_id=2, lease="l", rules=look, clean=("own-folders",), survey_first=False,
            standing=("own-folders",),
        )  # fmt: skip
        result = desk.carry_out(order, allow_folders=allowed)
        assert sum(o.held.count for o in result.outcomes) == 3
        assert left_by(result) == {}
        whose = {Path(entry.folder).stat().st_uid: entry.count for entry in desk.index.entries()}
        assert whose == {ANNA: 1, 3999: 1}, "what is a person's is held by nobody else"


# --- an agent whose own folder was set back -----------------------------------------------------


def set_back(desk: PeopleDesk) -> None:
    """The agent's list is as it was before anything was held."""
    shutil.rmtree(desk.own / "held-index")


def test_what_is_held_and_not_known_of_any_more_is_taken_up_again(desk: PeopleDesk) -> None:
    home = of(desk, "anna", ANNA)
    desk.clean(HELD)
    (before,) = desk.index.entries()
    set_back(desk)
    desk.take_up()
    (entry,) = desk.index.entries()
    assert entry == before.model_copy(update={"told": False})
    (told,) = desk.tell_held()
    assert {item.path for item in told.items} == {"0", "1"}
    held(desk, "put back")
    assert (home / ".tmp/0").exists()


def test_it_ends_with_its_time_then_as_well(desk: PeopleDesk) -> None:
    of(desk, "anna", ANNA)
    desk.clean(HELD)
    set_back(desk)
    desk.take_up()
    desk.expire(days=4)
    assert not list((desk.volume / HOLD).rglob("things/*/*"))


def test_what_was_aside_and_is_not_known_of_goes_back(
    desk: PeopleDesk, monkeypatch: pytest.MonkeyPatch
) -> None:
    home = of(desk, "anna", ANNA)
    desk.clean(HELD)
    (entry,) = desk.index.entries()
    manifest = Path(entry.folder, entry.batch, "manifest.jsonl")
    manifest.write_text(manifest.read_text().replace('"aside":false', '"aside":true'))
    set_back(desk)
    desk.take_up()
    assert (home / ".tmp/0").exists() and list(desk.index.entries()) == []


@pytest.mark.parametrize("forged", ["another agent's", "nobody's", "no such category", "for ever"])
def test_what_a_person_wrote_there_is_bounded(desk: PeopleDesk, forged: str) -> None:
    of(desk, "anna", ANNA)
    desk.clean(HELD)
    (before,) = desk.index.entries()
    folder = Path(before.folder, before.batch)
    lines = (folder / "manifest.jsonl").read_text().splitlines()
    head = json.loads(lines[0])
    match forged:
        case "another agent's":
            head["agent"] = "f" * 32
        case "nobody's":
            # as of an earlier version: it may be another agent's
            head["agent"] = ""
        case "no such category":
            folder = folder.rename(folder.with_name(before.batch.replace("user-temp", "x")))
        case "for ever":
            head["until_at"] = "9998-01-01T00:00:00Z"
    (folder / "manifest.jsonl").write_text("\n".join([json.dumps(head), *lines[1:]]) + "\n")
    set_back(desk)
    desk.take_up()
    entries = list(desk.index.entries())
    if forged == "for ever":
        assert entries[0].until_at <= datetime.now(UTC) + LONGEST_HOLD
    else:
        assert entries == []


def test_batches_of_nothing_are_not_kept_in_mind(desk: PeopleDesk) -> None:
    """However many of them somebody writes into their own folder."""
    of(desk, "anna", ANNA)
    desk.clean(HELD)
    (before,) = desk.index.entries()
    folder = Path(before.folder, before.batch)
    for number in range(20):
        forged = folder.with_name(f"{number}.user-temp.{'a' * 24}")
        (forged / "things").mkdir(parents=True)
        shutil.copy(folder / "manifest.jsonl", forged)
        give(forged, ANNA)
    desk.take_up()
    assert list(desk.index.entries()) == [before]
    assert [path.name for path in folder.parent.iterdir()] == [before.batch]
