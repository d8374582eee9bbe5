"""`phylax record seal` and `verify --seal`."""

from __future__ import annotations

from pathlib import Path

from helpers import Run
from phylax.client import Phylax
from phylax.core.clients.shop import Machine


def test_a_seal_is_kept_and_checked(
    phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    owner.records.add_note(machine.id, "Seen.")
    kept = tmp_path / "kept.seal"
    assert "sealed in" in phylax("record", "seal", str(kept)).stdout
    owner.records.add_note(machine.id, "Later.")
    held = phylax("record", "verify", "--seal", str(kept))
    assert held.returncode == 0 and "1 entry came later" in held.stdout.replace("\n", " ")
    kept.write_text(kept.read_text("utf-8").replace("chain ", "chain 0", 1), "utf-8")
    broken = phylax("record", "verify", "--seal", str(kept))
    assert broken.returncode == 4 and "altered" in broken.stdout
    assert phylax("record", "seal").stdout.startswith("phylax/")
