"""Killed at any moment while updates are installed: what was begun is ended or said, and the same
work done again comes to its end."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from tests.apt_root import AptRoot

from phylax.agent.machines.linux.apt import Apt
from phylax.core.actions import ActEnd, InstallUpdates, RemoveProgram, TryRemoval
from phylax.core.inventory.programs import Along

NAMES = ("a-one", "b-two", "c-three")
INSTALL = """
import sys
from phylax.agent.machines.linux.apt import Apt
from phylax.core.actions import InstallUpdates
print("begun", flush=True)
for part in Apt(sys.argv[1]).install(InstallUpdates(), lambda done=0, of=None: None):
    print(part.of, flush=True)
"""


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
        [sys.executable, "-c", INSTALL, str(packages.root)], stdout=subprocess.PIPE,
        start_new_session=True, env=os.environ | {"PYTHONPATH": str(Path.cwd() / "src")},
    )  # fmt: skip
    assert agent.stdout is not None
    agent.stdout.readline()
    time.sleep(random.Random(seed).uniform(0, 3.5))
    os.killpg(agent.pid, signal.SIGKILL)
    agent.wait()
    agent.stdout.close()
    if power_cut:
        end_all(packages.root)
    apt = Apt(str(packages.root))
    parts = list(apt.install(InstallUpdates(), watch))
    assert not [part for part in parts if part.end in (ActEnd.FAILED, ActEnd.REFUSED)], parts
    assert [packages.version(name) for name in NAMES] == ["installed 1.1"] * 3


def test_what_was_left_half_installed_is_made_whole_first_and_told(tmp_path: Path) -> None:
    packages = AptRoot(tmp_path)
    flag = tmp_path / "works"
    bad = packages.make("torn", "1.0", script=f"test -e {flag}")
    with pytest.raises(subprocess.CalledProcessError):
        packages.install(bad)
    assert not packages.version("torn").startswith("installed")
    packages.offer(packages.make("other", "1.0"))
    apt = Apt(str(packages.root))
    parts = list(apt.install(InstallUpdates(), watch))
    assert any(part.of == "torn" and "dpkg --audit" in part.why for part in parts)
    flag.touch()
    parts = list(apt.install(InstallUpdates(), watch))
    assert any(part.of == "torn" and "whole again" in part.why for part in parts)
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
    parts = {part.of: part.end for part in apt.remove(remove, watch)}
    assert parts["office"] is ActEnd.DONE and parts["fonts"] is ActEnd.DONE
    tried = apt.try_removal(TryRemoval(program="office", version="1.0"), watch).tried
    assert tried is not None and tried.refused == "it is not installed"
