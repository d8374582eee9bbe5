"""Tools that lie, hang or talk without end: bounded, said, and never believed by their end."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import pytest

from apt_root import AptRoot, ended
from phylax.agent.machines.linux import apt as apt_module
from phylax.agent.machines.linux.actions import arranging
from phylax.agent.machines.linux.apt import Apt
from phylax.agent.machines.linux.mounts import mounts
from phylax.agent.machines.linux.tools import run
from phylax.agent.survey.task import Stopped
from phylax.core.actions import ActEnd, InstallUpdates
from phylax.core.inventory.disks import Judgement, Treatment

Tool = Callable[[str], str]


def watch(done: int = 0, of: int | None = None) -> None:
    """Nobody ends it."""


@pytest.fixture
def tool(tmp_path: Path) -> Tool:
    def make(script: str) -> str:
        path = tmp_path / "tool"
        path.write_text(f"#!/bin/sh\n{script}\n")
        path.chmod(0o755)
        return str(path)

    return make


def test_who_talks_without_a_pause_is_ended_when_it_is_called_off(tool: Tool) -> None:
    def stop() -> None:
        raise Stopped

    with pytest.raises(Stopped):
        run([tool("while :; do echo x; sleep 0.01; done")], seconds=600, breathe=stop, most=2**30)


def test_who_closes_its_mouth_and_stays_is_ended_too(tool: Tool) -> None:
    def stop() -> None:
        raise Stopped

    with pytest.raises(Stopped):
        run([tool("exec >&- 2>&-; sleep 600")], seconds=600, breathe=stop)
    with pytest.raises(TimeoutError):
        run([tool("exec >&- 2>&-; sleep 600")], seconds=0.5)


@pytest.mark.parametrize(
    ("script", "treatment"),
    [
        ("exit 0", Treatment.GIVE_BACK),
        ("echo 'x (99999999999 bytes) trimmed'; exit 3", Treatment.GIVE_BACK),
        ("exit 0", Treatment.GATHER),
        ("kill -9 $$", Treatment.GATHER),
    ],
)
def test_an_arranging_tool_is_believed_by_what_is_measured(
    tool: Tool, monkeypatch: pytest.MonkeyPatch, script: str, treatment: Treatment
) -> None:
    path = tool(script)
    monkeypatch.setattr(arranging, "FSTRIM", path)
    monkeypatch.setattr(arranging, "E4DEFRAG", path)
    monkeypatch.setattr(arranging, "pieces_on", lambda *_: (10, 40))
    monkeypatch.setattr(arranging, "_why_not", lambda *_: "")
    judgement = Judgement(treatment=treatment, why="by the test")
    monkeypatch.setattr(arranging, "_judgement", lambda *_: judgement)
    part = arranging._arrange_one(mounts()[0], "C:", watch, "/sys", "")
    assert part.end is ActEnd.FAILED, part


def test_a_package_manager_that_says_done_and_did_nothing_is_not_believed(
    tmp_path: Path, tool: Tool, monkeypatch: pytest.MonkeyPatch
) -> None:
    packages = AptRoot(tmp_path)
    packages.install(packages.make("chat", "1.0"))
    packages.offer(packages.make("chat", "1.1"))
    apt = Apt(str(packages.root))
    real = apt_module.APT_GET
    lying = tool(f'case "$*" in *download-only*) ;; *" install "*) exit 0;; esac; exec {real} "$@"')
    monkeypatch.setattr(apt_module, "APT_GET", lying)
    (part,) = ended(apt.install(InstallUpdates(), watch))
    assert part.end is ActEnd.FAILED and "it is not" in part.why
    for script, said in (("echo nonsense", ""), ("exit 255", "255"), ("echo E: broken; exit 100",
                                                                      "E: broken")):  # fmt: skip
        monkeypatch.setattr(apt_module, "APT_GET", tool(script))
        parts = list(ended(apt.install(InstallUpdates(), watch)))
        assert parts[0].end in (ActEnd.FAILED, ActEnd.NOTHING) and said in parts[0].why
    assert packages.version("chat") == "installed 1.0"


def test_a_package_manager_that_hangs_is_given_up(
    tmp_path: Path, tool: Tool, monkeypatch: pytest.MonkeyPatch
) -> None:
    packages = AptRoot(tmp_path)
    monkeypatch.setattr(apt_module, "APT_GET", tool("sleep 600"))
    monkeypatch.setattr(apt_module, "_FETCH", 0.5)
    began = time.monotonic()
    with pytest.raises(OSError, match="does not answer"):
        Apt(str(packages.root)).updates(watch)
    assert time.monotonic() - began < 60


def test_the_hosts_own_packages_are_not_asked(tmp_path: Path) -> None:
    before = {p: p.stat().st_mtime_ns for p in Path("/var/lib/dpkg").glob("status*")}
    history = Path("/var/log/apt/history.log")
    size = history.stat().st_size if history.exists() else 0
    packages = AptRoot(tmp_path)
    packages.install(packages.make("chat", "1.0"))
    packages.offer(packages.make("chat", "1.1"))
    assert list(ended(Apt(str(packages.root)).install(InstallUpdates(), watch)))
    assert {p: p.stat().st_mtime_ns for p in Path("/var/lib/dpkg").glob("status*")} == before
    assert (history.stat().st_size if history.exists() else 0) == size
    assert (packages.root / "var/log/apt/history.log").exists()
