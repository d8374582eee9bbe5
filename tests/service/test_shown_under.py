"""A cleaning that somebody agreed to by a survey, on a machine that is otherwise by then."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest
import tomli_w

from helpers import enrol, make_file, make_standin
from phylax.agent.config.guard import GuardRules, write_rules
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.runs.runs import RunDetail, RunState
from phylax.core.survey.conditions import Conditions, why_otherwise

THEN = Conditions(guard="a", guard_words="never touched: /srv", volumes=("/", "/home"))


@pytest.mark.parametrize(
    ("now", "choice", "why"),
    [
        (THEN, ALL_VOLUMES, ""),
        (THEN.model_copy(update={"volumes": ("/home", "/")}), ALL_VOLUMES, ""),
        (
            THEN.model_copy(update={"volumes": ("/", "/home", "/media/stick")}),
            ALL_VOLUMES,
            "its volumes: shown with /, /home, now /, /home, /media/stick",
        ),
        (
            THEN.model_copy(update={"volumes": ("/",)}),
            ALL_VOLUMES,
            "its volumes: shown with /, /home, now /",
        ),
        (
            THEN.model_copy(update={"volumes": ("/", "/home", "/media/stick")}),
            VolumeChoice(only=("/home",)),
            "",
        ),
        (
            THEN.model_copy(update={"guard": "b", "guard_words": "never touched: /opt"}),
            VolumeChoice(only=("/home",)),
            "this machine's guard.toml: shown with “never touched: /srv”,"
            " now “never touched: /opt”",
        ),
    ],
)
def test_what_is_otherwise_is_said_with_both_versions(
    now: Conditions, choice: VolumeChoice, why: str
) -> None:
    assert why_otherwise(THEN, now, choice) == why


@pytest.fixture
def surveyed(owner: Phylax, machine: Machine, tmp_path: Path) -> Path:
    """A machine that was looked at; a file that would be removed."""
    old = make_file(make_standin(tmp_path / "m") / ".tmp/old", days_old=9)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.survey(machine.tag)
    agent.once()
    return old


def cleaned(owner: Phylax, machine: Machine, folder: Path) -> RunDetail:
    """By what the newest survey showed, by an agent that was started again."""
    survey_id = owner.machines.ledger(machine.tag).survey_id
    run = owner.runs.clean(machine.tag, ["user-temp"], survey_id=survey_id)
    Agent(AgentHome(folder)).once()
    return owner.runs.get(run.id)


def test_where_nothing_changed_it_goes(
    owner: Phylax, machine: Machine, surveyed: Path, tmp_path: Path
) -> None:
    run = cleaned(owner, machine, tmp_path / "agent")
    assert run.state is RunState.DONE and not surveyed.exists()


def new_volume(folder: Path) -> None:
    state = folder / "m/machine.toml"
    pretended = tomllib.loads(state.read_text())
    pretended["volumes"].append({"mount": "/media/stick", "folder": "stick", "capacity": 10**9})
    (folder / "m/stick").mkdir()
    state.write_text(tomli_w.dumps(pretended))


def new_guard(folder: Path) -> None:
    (folder / "agent/guard.toml").unlink(missing_ok=True)
    write_rules(folder / "agent", GuardRules(never_touch=("/srv/film",)))


@pytest.mark.parametrize(
    ("change", "words"),
    [(new_volume, "shown with /, now /, /media/stick"), (new_guard, "/srv/film")],
)
def test_where_the_machine_is_otherwise_nothing_goes(
    owner: Phylax,
    machine: Machine,
    surveyed: Path,
    tmp_path: Path,
    change: Callable[[Path], None],
    words: str,
) -> None:
    change(tmp_path)
    run = cleaned(owner, machine, tmp_path / "agent")
    assert run.state is RunState.FAILED and surveyed.exists()
    assert words in run.reason and "survey again" in run.reason
    owner.runs.survey(machine.tag)
    Agent(AgentHome(tmp_path / "agent")).once()
    assert cleaned(owner, machine, tmp_path / "agent").state is RunState.DONE


def test_a_cleaning_that_nobody_was_asked_about_goes_by_what_is_there(
    owner: Phylax, machine: Machine, surveyed: Path, tmp_path: Path
) -> None:
    new_volume(tmp_path)
    run = owner.runs.clean(machine.tag, ["user-temp"])
    Agent(AgentHome(tmp_path / "agent")).once()
    assert owner.runs.get(run.id).state is RunState.DONE and not surveyed.exists()
