"""What is held for somebody whose user number is another account's by now."""

from __future__ import annotations

import pwd
import shutil
import subprocess
import sys
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import pytest

from helpers import make_file
from people import ANNA, PeopleDesk, give, mounted
from phylax.agent.machines import HOLD
from phylax.agent.workers import former_people
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.hold.holds import BatchPick
from phylax.core.protocol import HeldOrder, ResultMessage, UnheldMessage
from phylax.core.retention import Reason, RuleInForce

HELD = {"user-temp": RuleInForce(off=False, keep_for=timedelta(0), hold_for=timedelta(days=3))}


@pytest.fixture
def account(monkeypatch: pytest.MonkeyPatch) -> Callable[[str], None]:
    """Gives the number to an account, or, of no name, takes it from all."""
    known = {"name": ""}

    class Accounts:
        @staticmethod
        def getpwuid(uid: int) -> pwd.struct_passwd:
            if uid != ANNA or not known["name"]:
                raise KeyError(uid)
            return pwd.struct_passwd((known["name"], "x", uid, uid, "", "/home/x", "/bin/sh"))

    monkeypatch.setattr(former_people, "pwd", Accounts)
    return lambda name: known.update(name=name)


def hold_for_anna(desk: PeopleDesk) -> tuple[Path, Path]:
    home = desk.home("anna", ANNA)
    letter = make_file(home / ".tmp/letter", 4096, days_old=9)
    give(home, ANNA)
    desk.clean(HELD)
    (entry,) = desk.index.entries()
    return letter, Path(entry.folder, entry.batch, "things/0/1")


def may_read(path: Path) -> bool:
    """Whether a process of the number may."""
    code = (
        "import os, sys; os.setgid(int(sys.argv[2])); os.setuid(int(sys.argv[2]));open(sys.argv[1])"
    )
    command = [sys.executable, "-c", code, str(path), str(ANNA)]
    return subprocess.run(command, capture_output=True).returncode == 0


def held(desk: PeopleDesk, kind: str, run_id: int = 9) -> ResultMessage:
    picks = tuple(BatchPick(batch=entry.batch) for entry in desk.index.entries())
    order = HeldOrder(kind=kind, run_id=run_id, lease="l", picks=picks)  # type: ignore[arg-type]
    return desk.carry_out(order)


def where_it_lies(desk: PeopleDesk) -> Path:
    (entry,) = desk.index.entries()
    return Path(entry.folder, entry.batch, "things/0/1")


def test_a_new_account_of_the_number_reads_nothing_of_it(
    desk: PeopleDesk, account: Callable[[str], None]
) -> None:
    letter, path = hold_for_anna(desk)
    assert may_read(path), "it is theirs"
    account("carla")
    desk.expire(days=0)
    moved = where_it_lies(desk)
    assert moved != path and moved.exists() and not may_read(moved)
    result = held(desk, "put back")
    ((reason, count),) = [(s.reason, s.count) for o in result.outcomes for s in o.left]
    assert (reason, count) == (Reason.FOREIGN, 1)
    assert "number is another's now" in result.left[0].detail
    assert not letter.exists() and moved.exists()
    desk.expire(days=4)
    assert not moved.exists() and list(desk.index.entries()) == []
    assert [m.status for m in desk.messages(UnheldMessage)] == ["gone"]


def test_it_is_let_go_before_its_time_where_somebody_says_so(
    desk: PeopleDesk, account: Callable[[str], None]
) -> None:
    hold_for_anna(desk)
    account("carla")
    (outcome,) = held(desk, "let go").outcomes
    assert (outcome.removed.count, outcome.removed.size, outcome.left) == (1, 4096, ())
    assert list(desk.index.entries()) == []
    assert not list((desk.volume / HOLD).rglob("things"))


def test_what_is_held_for_the_new_one_is_apart(
    desk: PeopleDesk, account: Callable[[str], None]
) -> None:
    """Also in the very run in which the new account is seen first."""
    letter, _ = hold_for_anna(desk)
    account("carla")
    shutil.rmtree(desk.volume / "home/anna")
    home = desk.home("carla", ANNA)
    note = give(make_file(home / ".tmp/note", 100, days_old=9).parent, ANNA) / "note"
    desk.clean(HELD, run_id=3)
    assert not note.exists()
    folders = {entry.person: entry.folder for entry in desk.index.entries()}
    assert folders["carla"] == str(desk.volume / HOLD / str(ANNA)) != folders["anna"]
    assert not may_read(Path(folders["anna"]))
    held(desk, "put back")
    assert note.exists() and not letter.exists()


def test_of_an_account_that_has_gone_it_is_sealed_and_waits_for_its_return(
    desk: PeopleDesk, account: Callable[[str], None]
) -> None:
    """Before somebody else is given the number."""
    letter, path = hold_for_anna(desk)
    shutil.rmtree(desk.volume / "home/anna")
    desk.expire(days=0)
    assert where_it_lies(desk) != path
    ((reason, count),) = [
        (s.reason, s.count) for o in held(desk, "put back").outcomes for s in o.left
    ]
    assert (reason, count) == (Reason.FOREIGN, 1)
    desk.home("anna", ANNA)
    (outcome,) = held(desk, "put back", 10).outcomes
    assert (outcome.put_back.count, outcome.left) == (1, ())
    assert letter.exists()


def test_what_is_held_for_an_account_that_is_not_there_is_kept_longer(
    desk: PeopleDesk, account: Callable[[str], None]
) -> None:
    """The directory of accounts and the home may only be away."""
    _, path = hold_for_anna(desk)
    shutil.rmtree(desk.volume / "home/anna")
    desk.expire(days=4)
    moved = where_it_lies(desk)
    assert moved != path and moved.exists()
    desk.expire(days=34)
    assert not moved.exists() and list(desk.index.entries()) == []


def test_on_their_own_disk_it_ends_as_well(
    tmp_path: Path, fork_server: ForkServer, account: Callable[[str], None]
) -> None:
    options = f"size=64m,mode=755,uid={ANNA},gid={ANNA}"
    with mounted("tmpfs", tmp_path / "disk", "-o", options) as volume:
        desk = PeopleDesk(volume, tmp_path / "own", fork_server)
        _, path = hold_for_anna(desk)
        shutil.rmtree(volume / "home/anna")
        desk.expire(days=4)
        assert path.exists() and where_it_lies(desk) == path
        desk.expire(days=34)
        assert not path.exists() and list(desk.index.entries()) == []


def test_it_goes_back_into_a_home_that_was_renamed_or_moved(
    desk: PeopleDesk, account: Callable[[str], None]
) -> None:
    account("anna")
    hold_for_anna(desk)
    home = desk.volume / "home/anna"
    home.rename(home.with_name("anna.new"))
    (outcome,) = held(desk, "put back").outcomes
    assert (outcome.put_back.count, outcome.left) == (1, ())
    assert (home.with_name("anna.new") / ".tmp/letter").exists() and not home.exists()


def test_it_does_not_expire_while_the_home_is_away(
    desk: PeopleDesk, account: Callable[[str], None]
) -> None:
    """Nobody could have asked for it: not unlocked, on a disk that is not connected."""
    account("anna")
    letter, path = hold_for_anna(desk)
    home, away = desk.volume / "home/anna", desk.volume / "away"
    home.rename(away)
    desk.expire(days=4)
    assert path.exists()
    away.rename(home)
    desk.expire(days=4)
    assert not path.exists() and list(desk.index.entries()) == []
    assert not letter.exists()


def test_it_is_theirs_again_with_their_account(
    desk: PeopleDesk, account: Callable[[str], None]
) -> None:
    """As where the directory of accounts did not answer for a while."""
    letter, path = hold_for_anna(desk)
    account("carla")
    desk.expire(days=0)
    account("anna")
    desk.expire(days=0)
    assert where_it_lies(desk) == path
    held(desk, "put back")
    assert letter.exists()


def test_several_batches_are_sealed_together_and_a_cut_between_them_is_made_up_for(
    desk: PeopleDesk, account: Callable[[str], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    hold_for_anna(desk)
    make_file(desk.volume / "home/anna/.tmp/second", 100, days_old=9)
    give(desk.volume / "home/anna", ANNA)
    desk.clean(HELD, run_id=3)
    account("carla")
    put, written = desk.index.put, []

    def cut(entry: former_people.HeldFor) -> None:
        if written:
            raise KeyboardInterrupt
        written.append(entry)
        put(entry)

    monkeypatch.setattr(desk.index, "put", cut)
    with pytest.raises(KeyboardInterrupt):
        former_people.FormerPeople(desk.index).look()
    desk.take_up()
    folders = {entry.folder for entry in desk.index.entries()}
    assert len(folders) == 1 and all(entry.sealed for entry in desk.index.entries())
    assert len(list(Path(folders.pop()).glob("*/things/0/1"))) == 2
