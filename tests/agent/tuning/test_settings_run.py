"""Orders about settings on a real tree of links, honest ones and forged ones."""

from __future__ import annotations

from pathlib import Path

import pytest
from pydantic import ValidationError

from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.runtime.settings_run import SettingsRun
from phylax.core.protocol import ChangeSettingsOrder, PutSettingsBackOrder
from phylax.core.tuning.changes import ChangeState, Wanted
from phylax.core.tuning.programs import Intent
from startup_trees import add_file, add_link, add_service, picture

CLOUD = "path:/opt/cloud/run --quiet"


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "root"
    add_service(root, "cloud", install="Alias=cloud-too.service")
    add_link(root, "etc/systemd/system/cloud-too.service", "/usr/lib/systemd/system/cloud.service")
    add_service(root, "net", unit="Before=network.target")
    add_service(root, "own", on=False)
    add_file(root, "etc/systemd/system/own.service", "[Service]\nExecStart=/opt/own/run x\n")
    add_link(root, "etc/systemd/system/multi-user.target.wants/own.service",
             "/etc/systemd/system/own.service")  # fmt: skip
    return root


@pytest.fixture
def run(root: Path, tmp_path: Path) -> SettingsRun:
    return SettingsRun(LinuxMachine(root=str(root)), tmp_path / "journal", frozenset())


def order(*wanted: tuple[str, Intent], was: Intent = Intent.AT_START) -> ChangeSettingsOrder:
    return ChangeSettingsOrder(
        run_id=1,
        lease="lease",
        wanted=tuple(Wanted(program=key, was=was, intent=intent) for key, intent in wanted),
    )


def back(*changes: str) -> PutSettingsBackOrder:
    return PutSettingsBackOrder(run_id=2, lease="lease", changes=changes)


def test_a_service_is_barred_and_comes_back_with_its_alias(root: Path, run: SettingsRun) -> None:
    before = picture(root)
    (made,) = run.change(order((CLOUD, Intent.OFF)))
    assert (made.refused, made.before, made.after) == ("", "at start", "off")
    assert (root / "etc/systemd/system/cloud.service").readlink() == Path("/dev/null")
    assert made.id is not None
    (told,) = run.put_back(back(made.id))
    assert told.state is ChangeState.PUT_BACK
    assert picture(root) == before


def test_two_changes_of_one_program_go_back_newest_first(root: Path, run: SettingsRun) -> None:
    before = picture(root)
    (first,) = run.change(order((CLOUD, Intent.ON_DEMAND)))
    again = order((CLOUD, Intent.OFF), was=Intent.ON_DEMAND)
    (second,) = run.change(again.model_copy(update={"run_id": 3}))
    assert (first.refused, second.refused) == ("", "")
    assert first.id and second.id
    told = run.put_back(back(first.id, second.id))
    assert [made.state for made in told] == [ChangeState.PUT_BACK] * 2
    assert picture(root) == before


@pytest.mark.parametrize(
    ("wanted", "why"),
    [
        (("path:/opt/net/run --quiet", Intent.OFF), "guarded: network may hang on it"),
        (("path:/opt/nothing", Intent.ON_DEMAND), "not there"),
        (("../../etc/passwd", Intent.OFF), "not there"),
        (("unit:system:cloud.service", Intent.OFF), "not there"),
        ((CLOUD, Intent.AFTER_START), "only by hand"),
        ((CLOUD, Intent.AT_START), "it cannot be set to at start"),
    ],
)
def test_a_hostile_service_can_ask_for_nothing_else(
    root: Path, run: SettingsRun, wanted: tuple[str, Intent], why: str
) -> None:
    before = picture(root)
    (made,) = run.change(order(wanted))
    assert why in made.refused and made.id is None
    assert picture(root) == before


def test_an_administrators_own_file_is_never_replaced(root: Path, run: SettingsRun) -> None:
    (made,) = run.change(order(("path:/opt/own/run x", Intent.OFF)))
    file = root / "etc/systemd/system/own.service"
    assert file.is_file() and not file.is_symlink()
    assert made.id is None and "it cannot be set to off" in made.refused
    before = picture(root)
    (made,) = run.change(order(("path:/opt/own/run x", Intent.ON_DEMAND)))
    assert made.refused == "", "nothing lists it any more, and that is what was wanted"
    run.put_back(back(str(made.id)))
    assert picture(root) == before


def test_what_runs_otherwise_by_now_is_left(root: Path, run: SettingsRun) -> None:
    before = picture(root)
    (made,) = run.change(order((CLOUD, Intent.OFF), was=Intent.ON_DEMAND))
    assert "is at start by now" in made.refused
    assert picture(root) == before


@pytest.mark.parametrize("forged", ["../x", "0" * 81, "A B", "", "change/../../etc"])
def test_names_of_changes_are_names_and_unknown_ones_do_nothing(
    root: Path, run: SettingsRun, forged: str
) -> None:
    with pytest.raises(ValidationError):
        back(forged)
    before = picture(root)
    assert run.put_back(back("never-made-here")) == []
    assert picture(root) == before


def test_a_link_planted_in_place_of_a_folder_leads_nowhere(
    root: Path, run: SettingsRun, tmp_path: Path
) -> None:
    outside = tmp_path / "outside"
    (root / "etc/systemd").rename(tmp_path / "moved")
    add_link(root, "etc/systemd", str(outside))
    (tmp_path / "moved").rename(outside)
    before = picture(outside)
    (made,) = run.change(order((CLOUD, Intent.OFF)))
    assert made.refused and made.id is None
    assert picture(outside) == before
