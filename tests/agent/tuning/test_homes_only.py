"""An agent that looks after some homes changes nothing of the system, and lists nothing of it."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from helpers import make_file
from phylax.agent.machines.linux import LinuxMachine
from phylax.core.tuning.programs import Intent, Program
from startup_trees import add_file, add_service, entry

TIMER = "[Timer]\nOnCalendar=daily\n[Install]\nWantedBy=timers.target\n"


class Elsewhere(LinuxMachine):
    """The system's folders begin below a test's."""

    top = "/"

    @property
    def root(self) -> str:
        return self.top


@pytest.fixture
def machines(tmp_path: Path) -> tuple[LinuxMachine, LinuxMachine]:
    """Of some homes only, and of everybody's: over the same system."""
    root, home = tmp_path / "root", tmp_path / "home/anna"
    for timer in ("apt-daily.timer", "apt-daily-upgrade.timer"):
        add_file(root, f"usr/lib/systemd/system/{timer}", TIMER)
    (root / "etc/systemd/system").mkdir(parents=True)
    add_service(root, "glow", where="usr/lib/systemd/system", wanted="multi-user.target")
    add_file(root, "opt/words/run", "#!/bin/sh\n", 0o755)
    add_file(home, ".config/autostart/words.desktop", entry("Words", "/opt/words/run"))
    make_file(home / "Documents/letter")
    homes, everybody = Elsewhere([str(home)]), Elsewhere([str(home)], root=str(root))
    homes.top = everybody.top = str(root)
    return homes, everybody


def named(machine: LinuxMachine) -> dict[str, Program]:
    return {
        os.path.basename(os.path.dirname(program.path)): program for program in machine.programs()
    }


def test_only_what_is_peoples_own_is_listed(machines: tuple[LinuxMachine, LinuxMachine]) -> None:
    homes, everybody = machines
    assert "glow" in named(everybody) and "updates" in {seen.key for seen in everybody.values()}
    of_people = named(homes)
    assert "glow" not in of_people and len(of_people) == 1
    (words,) = of_people.values()
    assert {starter.person for starter in words.starters} == {"anna"}
    assert [seen for seen in homes.values() if not seen.person] == []


def test_nothing_of_the_system_is_changed(machines: tuple[LinuxMachine, LinuxMachine]) -> None:
    homes, everybody = machines
    assert everybody.value_pieces("updates", "", "tuesday-noon")
    with pytest.raises(OSError, match="some homes only"):
        homes.value_pieces("updates", "", "tuesday-noon")
    glow = named(everybody)["glow"]
    plan = glow.plan(Intent.ON_DEMAND)
    assert everybody.switched(glow, plan)
    with pytest.raises(OSError, match="some homes only"):
        homes.switched(glow, plan)
    (words,) = named(homes).values()
    assert homes.switched(words, words.plan(Intent.ON_DEMAND)), "what is theirs is changed"
