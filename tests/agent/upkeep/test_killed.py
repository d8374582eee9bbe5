"""Killed at any moment while updates are installed: what was begun is ended or said, and the same
work done again comes to its end."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from unittest.mock import patch

import pytest

from apt_root import AptRoot, ended
from phylax.agent.account.run_journal import RunJournal
from phylax.agent.machines.linux.apt import Apt
from phylax.agent.machines.upkeep import Watch
from phylax.agent.runtime.action_runner import act
from phylax.core.actions import (
    ActEnd,
    ActionPart,
    InstallUpdates,
    RemoveProgram,
    TryRemoval,
    UnderWay,
)
from phylax.core.inventory.programs import Along
from phylax.core.protocol import ActionMessage, ActOrder

NAMES = ("a-one", "b-two", "c-three")
INSTALL = """
import sys
from tests.agent.upkeep.test_killed import installed_by_order
print("begun", flush=True)
installed_by_order(sys.argv[1], sys.argv[2])
"""


class _Told:
    """What would be told to the service, in a file."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def put(self, message: ActionMessage) -> None:
        with self._path.open("a") as lines:
            lines.write(message.model_dump_json() + "\n")

    def parts(self) -> dict[str, ActionPart]:
        """As the service keeps them: of each update what was told last."""
        text = self._path.read_text() if self._path.exists() else ""
        messages = [ActionMessage.model_validate_json(line) for line in text.splitlines()]
        return {part.target: part for message in messages for part in message.parts}


class _Machine:
    def __init__(self, root: str) -> None:
        self._root = root

    def act(
        self, action: InstallUpdates, watch: Watch, cut_off: UnderWay | None
    ) -> Iterator[ActionPart | UnderWay]:
        return Apt(self._root).install(action, watch, cut_off)


def installed_by_order(root: str, folder: str) -> dict[str, ActionPart]:
    """What an order to install came to, as all that worked on it told; gone on with where it was
    cut off."""
    order = ActOrder(run_id=1, lease="lease", action=InstallUpdates())
    journal = RunJournal.begin(Path(folder) / "1.jsonl", order, "now", ())
    told = _Told(Path(folder) / "told")
    crew = SimpleNamespace(machine=_Machine(root), guard=SimpleNamespace(never_checks=()))
    listener = SimpleNamespace(check=lambda: None, tell=lambda progress: None)
    with patch("phylax.agent.runtime.action_runner.look_by_check"):
        act(order, crew, journal, told, listener, lambda: None)  # type: ignore[arg-type]
    return told.parts()


def watch(done: int = 0, of: int | None = None) -> None:
    """Nobody ends it."""


def end_all(root: Path) -> None:
    """As a power cut does: whoever works below the root, the package manager too."""
    for entry in Path("/proc").iterdir():
        try:
            command = (entry / "cmdline").read_bytes() if entry.name.isdecimal() else b""
            if os.fsencode(root) in command and int(entry.name) != os.getpid():
                os.kill(int(entry.name), signal.SIGKILL)
        except (FileNotFoundError, ProcessLookupError):
            continue


@pytest.mark.parametrize("power_cut", [False, True])
@pytest.mark.parametrize("seed", range(6))
def test_killed_at_any_moment_nothing_half_installed_is_left_unsaid(
    tmp_path: Path, seed: int, power_cut: bool
) -> None:
    packages = AptRoot(tmp_path)
    packages.install(*(packages.make(name, "1.0") for name in NAMES))
    packages.offer(*(packages.make(name, "1.1", script="sleep 0.2") for name in NAMES))
    agent = subprocess.Popen(
        [sys.executable, "-c", INSTALL, str(packages.root), str(tmp_path)], stdout=subprocess.PIPE,
        start_new_session=True, env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)},
    )  # fmt: skip
    assert agent.stdout is not None
    agent.stdout.readline()
    time.sleep(random.Random(seed).uniform(0, 3.5))
    os.killpg(agent.pid, signal.SIGKILL)
    agent.wait()
    agent.stdout.close()
    if power_cut:
        end_all(packages.root)
    parts = installed_by_order(str(packages.root), str(tmp_path))
    assert [packages.version(name) for name in NAMES] == ["installed 1.1"] * 3, parts
    told = {name: (part.end, part.before, part.after) for name, part in parts.items()}
    assert told == dict.fromkeys(NAMES, (ActEnd.DONE, "1.0", "1.1"))


def test_what_ended_while_nobody_waited_for_it_is_told_by_whoever_goes_on(tmp_path: Path) -> None:
    packages = AptRoot(tmp_path)
    packages.install(packages.make("one", "1.0"), packages.make("two", "1.0"))
    packages.offer(packages.make("one", "1.1"), packages.make("two", "1.1"))
    apt = Apt(str(packages.root))
    work = apt.install(InstallUpdates(names=("one",)), watch)
    begun = next(work)
    assert begun == UnderWay(target="one", before="1.0", after="1.1")
    assert packages.version("one") == "installed 1.0", "nothing is begun before it is noted"
    not_begun = list(apt.install(InstallUpdates(names=("two",)), watch, begun))
    assert [part.target for part in not_begun] == ["two", "two"]
    list(work)
    (part,) = ended(apt.install(InstallUpdates(names=("one",)), watch, begun))
    assert (part.target, part.after) == ("one", "1.1")
    (part,) = apt.install(InstallUpdates(), watch, begun)
    assert (part.target, part.after) == ("one", "1.1")


def test_what_was_left_half_installed_is_made_whole_first_and_told(tmp_path: Path) -> None:
    packages = AptRoot(tmp_path)
    flag = tmp_path / "works"
    bad = packages.make("torn", "1.0", script=f"test -e {flag}")
    with pytest.raises(subprocess.CalledProcessError):
        packages.install(bad)
    assert not packages.version("torn").startswith("installed")
    packages.offer(packages.make("other", "1.0"))
    apt = Apt(str(packages.root))
    parts = list(ended(apt.install(InstallUpdates(), watch)))
    assert any(part.target == "torn" and "dpkg --audit" in part.why for part in parts)
    flag.touch()
    parts = list(ended(apt.install(InstallUpdates(), watch)))
    assert any(part.target == "torn" and "whole again" in part.why for part in parts)
    assert packages.version("torn") == "installed 1.0"


def test_a_removal_gone_on_with_ends_as_it_was_agreed(tmp_path: Path) -> None:
    packages = AptRoot(tmp_path)
    made = [packages.make("office", "1.0"), packages.make("fonts", "1.0", depends="office")]
    packages.install(*made)
    packages.offer(*made)
    apt = Apt(str(packages.root))
    apt.updates(watch)
    fonts = Along(name="fonts", version="1.0")
    remove = RemoveProgram(program="office", version="1.0", along=(fonts,), backup_days=1)
    subprocess.run(
        ["dpkg", f"--root={packages.root}", "--force-not-root", "--force-script-chrootless",
         "--remove", "fonts"], check=True, capture_output=True,
    )  # fmt: skip
    parts = {part.target: part.end for part in apt.remove(remove, watch)}
    assert parts["office"] is ActEnd.DONE and parts["fonts"] is ActEnd.DONE
    tried = apt.try_removal(TryRemoval(program="office", version="1.0"), watch).tried
    assert tried is not None and tried.refused == "it is not installed"
