"""The guard's file: what is not there any more, or is no file, is never taken for no limits."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from helpers import make_file, make_standin
from phylax.agent.config.guard import (
    GUARD_FILE,
    Guard,
    GuardRules,
    LooseGuardError,
    read_rules,
    write_rules,
)
from phylax.agent.machines.standin import StandInMachine

RULES = GuardRules(never_touch=("/srv/film",), restart="never")


def test_where_there_never_was_one_the_defaults_hold(tmp_path: Path) -> None:
    assert read_rules(tmp_path) == GuardRules()


def test_one_that_was_there_and_is_gone_stops_the_agent_until_somebody_speaks(
    tmp_path: Path,
) -> None:
    write_rules(tmp_path, RULES)
    assert read_rules(tmp_path) == RULES
    (tmp_path / GUARD_FILE).unlink()
    for _ in range(2):
        with pytest.raises(LooseGuardError, match="was there and is gone"):
            read_rules(tmp_path)
    write_rules(tmp_path, RULES)
    assert read_rules(tmp_path) == RULES
    # or: this machine is to have none
    (tmp_path / GUARD_FILE).unlink()
    (tmp_path / "guard-was-here").unlink()
    assert read_rules(tmp_path) == GuardRules()


@pytest.mark.parametrize("kind", ["dangling link", "link", "folder", "pipe"])
def test_what_is_no_plain_file_stops_the_agent(tmp_path: Path, kind: str) -> None:
    path = tmp_path / GUARD_FILE
    match kind:
        case "dangling link":
            path.symlink_to(tmp_path / "gone")
        case "link":
            write_rules(tmp_path, RULES)
            path.rename(tmp_path / "elsewhere.toml")
            path.symlink_to(tmp_path / "elsewhere.toml")
        case "folder":
            path.mkdir()
        case "pipe":
            os.mkfifo(path)
    with pytest.raises((LooseGuardError, OSError)):
        read_rules(tmp_path)


@pytest.mark.parametrize("text", ["never_touch = [", 'never_touch = "x"', "unknown = 1", "\0"])
def test_one_that_cannot_be_read_stops_the_agent(tmp_path: Path, text: str) -> None:
    (tmp_path / GUARD_FILE).write_text(text)
    (tmp_path / GUARD_FILE).chmod(0o600)
    with pytest.raises(ValueError):
        read_rules(tmp_path)


def test_a_place_is_kept_however_its_accents_are_written(tmp_path: Path) -> None:
    written, stored = "Büro", "Bu\N{COMBINING DIAERESIS}ro"
    home = make_standin(tmp_path / "machine")
    folder = home / "work" / stored
    make_file(folder / "old", days_old=9)
    machine = StandInMachine(tmp_path / "machine")
    rules = GuardRules(never_touch=(str(home / "work" / written),))
    guard = Guard(machine, (), rules)
    assert "this machine's own rules" in (guard.why_forbidden(str(folder)) or "")
    assert guard.why_forbidden(str(home / "work" / "other")) is None


def test_what_holds_a_folder_of_the_machines_own_rules_is_not_cleaned_either(
    tmp_path: Path,
) -> None:
    home = make_standin(tmp_path / "machine")
    (home / "work" / "films").mkdir(parents=True)
    machine = StandInMachine(tmp_path / "machine")
    guard = Guard(machine, (), GuardRules(never_touch=(str(home / "work" / "films"),)))
    assert "this machine's own rules" in (guard.why_forbidden(str(home / "work")) or "")
    assert guard.why_forbidden(str(home / "work" / "other")) is None


def test_no_root_and_nothing_that_holds_one_is_cleaned_as_a_whole(tmp_path: Path) -> None:
    class Machine(StandInMachine):
        """A machine with a second disk on which nothing is sealed."""

        def sealed(self) -> list[str]:
            return []

        def roots(self) -> list[str]:
            return [str(tmp_path / "disks" / "second")]

    make_standin(tmp_path / "machine")
    (tmp_path / "disks" / "second" / "cache").mkdir(parents=True)
    guard = Guard(Machine(tmp_path / "machine"))
    for folder in ("disks", "disks/second"):
        assert "as a whole" in (guard.why_forbidden(str(tmp_path / folder)) or ""), folder
    assert guard.why_forbidden(str(tmp_path / "disks/second/cache")) is None
