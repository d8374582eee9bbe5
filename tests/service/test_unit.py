"""The service as a service of the system."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

import pytest

from phylax.service.serving.serve import unit


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="no systemd here to ask")
def test_systemd_finds_nothing_wrong_with_the_unit_and_little_exposed(tmp_path: Path) -> None:
    path = tmp_path / "phylax.service"
    path.write_text(unit(tmp_path))
    checked = ["systemd-analyze", "verify", str(path)]
    said = subprocess.run(checked, capture_output=True, text=True, timeout=60, check=False)
    assert (said.returncode, said.stderr) == (0, "")
    judged = ["systemd-analyze", "security", "--offline=true", "--no-pager", str(path)]
    said = subprocess.run(judged, capture_output=True, text=True, timeout=60, check=False)
    level = re.search(r"exposure level for phylax.service: ([0-9.]+)", said.stdout)
    assert level is not None and float(level[1]) < 2.5, said.stdout[-400:]


def test_a_path_that_means_something_in_a_unit_is_refused(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="no spaces"):
        unit(tmp_path / "a b")
