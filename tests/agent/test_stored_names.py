"""The same accents can be stored in two ways: what people type leads to either, and what reads
alike is told apart."""

from __future__ import annotations

import unicodedata
from pathlib import Path

import pytest

from engine import Bench, NothingRuns
from helpers import make_file
from phylax.agent.files.stored_names import stored_name, stored_path
from phylax.agent.machines.linux import LinuxMachine
from phylax.core.retention import ProtectEntry, ProtectKind
from phylax.core.survey import unspell

BUERO = unicodedata.normalize("NFC", "Büro"), unicodedata.normalize("NFD", "Büro")
BOTH_WAYS = [(BUERO[0], BUERO[1]), (BUERO[1], BUERO[0])]
NOW = {"keep_for": "P0D"}


@pytest.mark.parametrize(("typed", "stored"), BOTH_WAYS)
def test_a_folder_is_where_its_name_reads_so(tmp_path: Path, typed: str, stored: str) -> None:
    (tmp_path / stored / stored).mkdir(parents=True)
    assert stored_name(str(tmp_path), typed) == stored
    assert stored_path(f"{tmp_path}/{typed}/{typed}/x") == f"{tmp_path}/{stored}/{stored}/x"
    (tmp_path / typed).mkdir()
    assert stored_name(str(tmp_path), typed) == typed, "a folder written so is the one meant"
    assert stored_name(str(tmp_path), "Bürö") == "Bürö"
    assert stored_name(str(tmp_path / "none"), typed) == typed


@pytest.mark.parametrize(("typed", "stored"), BOTH_WAYS)
def test_the_shops_own_folder_is_found(tmp_path: Path, typed: str, stored: str) -> None:
    old = make_file(tmp_path / "srv" / stored / "old", days_old=99)
    machine = LinuxMachine([str(tmp_path)], own_folders=[str(tmp_path / "srv" / typed)])
    location = machine.named_folder(str(tmp_path / "srv" / typed))
    assert location is not None
    assert not location.why
    assert location.path == str(old.parent)


@pytest.mark.parametrize(("typed", "stored"), BOTH_WAYS)
def test_what_a_protected_link_leads_to_is_protected(
    tmp_path: Path, typed: str, stored: str
) -> None:
    home = tmp_path / "anna"
    picture = make_file(home / ".tmp/archive/picture", days_old=99)
    (home / stored).mkdir()
    (home / stored / "archive").symlink_to(picture.parent)
    entry = ProtectEntry(kind=ProtectKind.FOLDER, pattern=f"{home}/{typed}/archive")
    other = make_file(home / ".tmp/other", days_old=99)
    bench = Bench(NothingRuns([str(home)]), tmp_path, protect=[entry])
    bench.clean("user-temp", **NOW)
    assert picture.exists()
    assert not other.exists()


def test_names_that_read_alike_are_listed_apart(tmp_path: Path) -> None:
    home = tmp_path / "anna"
    for name in BUERO:
        make_file(home / "Downloads" / name / "letter", days_old=99)
        make_file(home / "Downloads" / f"{name}.pdf", days_old=99)
    make_file(home / "Downloads" / "Ärzte", days_old=99)
    bench = Bench(NothingRuns([str(home)]), tmp_path)
    line = bench.look("downloads", **NOW)
    assert line is not None
    for items in (bench.listing, line.largest):
        shown = [item.path for item in items]
        assert len({unicodedata.normalize("NFC", path) for path in shown}) == 5, shown
        assert "Ärzte" in shown
        assert {unspell(item) for item in items} == {
            "Ärzte",
            *(f"{name}/letter" for name in BUERO),
            *(f"{name}.pdf" for name in BUERO),
        }
        assert len([path for path in shown if "\\x" in path or "\\u" in path]) == 2
