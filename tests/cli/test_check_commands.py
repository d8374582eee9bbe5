"""`phylax check`: what is checked, what was found, and what was done about it."""

from __future__ import annotations

from pathlib import Path

from helpers import Run, enrol, make_standin
from phylax.client import Phylax
from phylax.core.clients.shop import Machine

BROKEN = """
[volumes."/"]
findings = [{severity = "warning", what = "The file system has errors", evidence = "12 errors"}]
"""


def test_checks_are_asked_for_listed_and_seen_to(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    make_standin(tmp_path / "m")
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    assert "File system" in phylax("check", "list-kinds").stdout
    assert "was not checked yet" in phylax("check", "list", machine.tag).stdout
    assert "waits for" in phylax("check", "run", machine.tag, "--no-wait").stdout
    (tmp_path / "m/checks.toml").write_text(BROKEN)
    agent.once()
    listed = phylax("check", "list", machine.tag).stdout
    assert "findings" in listed and "The file system has errors (12 errors)" in listed
    kept = {one.checked.check: one for one in owner.checks.of(machine.tag)}["file-system"]
    said = phylax("check", "settle", str(kept.id), "The cable was loose.")
    assert "needs nobody any more" in said.stdout
    assert "dealt with by Ines Marrow" in phylax("check", "list", machine.tag).stdout
    refused = phylax("check", "run", machine.tag, "nonsense")
    assert refused.returncode == 2 and "file-system" in refused.stderr
