"""What starts the agent by itself, and whether the rights it gives are enough for the work."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import xml.etree.ElementTree as ET
from importlib import resources
from pathlib import Path

import pytest

from helpers import make_file
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime import commands

_WORK = """
import sys
from pathlib import Path
from engine import rule
from people import PeopleDesk
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.hold.holds import BatchPick
from phylax.core.protocol import HeldOrder

desk = PeopleDesk(Path(sys.argv[1]), Path(sys.argv[2]), ForkServer())
gone = desk.clean({"user-temp": rule(keep_for="P0D")})
held = desk.clean({"user-caches": rule(keep_for="P0D", hold_for="P3D")}, run_id=3)
picks = tuple(BatchPick(batch=entry.batch) for entry in desk.index.entries())
back = desk.carry_out(HeldOrder(kind="put back", run_id=4, lease="l", picks=picks))
opened = list(desk.crew.machine.in_use().files)
print(gone.outcomes[0].removed.count, held.outcomes[0].held.count,
      back.outcomes[0].put_back.count, len(opened) > 0)
"""


def unit(tmp_path: Path) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for line in commands.unit(AgentHome(tmp_path)).splitlines():
        key, sign, value = line.partition("=")
        if sign and not key.startswith("#"):
            found.setdefault(key, []).append(value)
    return found


def test_the_unit_starts_this_very_program_in_its_own_folder(tmp_path: Path) -> None:
    (command,) = unit(tmp_path)["ExecStart"]
    assert command == f"{sys.executable} -m phylax agent start --data {tmp_path}"
    told = subprocess.run(command.split(), capture_output=True, text=True, timeout=60, check=False)
    assert "no agent is enrolled in" in told.stderr


def test_a_folder_that_systemd_cannot_take_is_refused(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="no spaces"):
        commands.unit(AgentHome(tmp_path / "two words"))


@pytest.mark.skipif(os.geteuid() != 0, reason="giving rights up needs to have them")
def test_the_rights_it_gives_are_enough_to_clean_hold_and_put_back_for_others(
    tmp_path: Path, volume: Path
) -> None:
    """Files of another person that nobody else may read, with no right but the unit's."""
    given = " ".join(unit(tmp_path)["CapabilityBoundingSet"])
    names = ",".join(f"+{right.removeprefix('CAP_').lower()}" for right in given.split())
    home, own = volume / "home/anna", tmp_path / "own"
    volume.chmod(0o755)
    for folder in tmp_path.parents:
        if len(folder.parts) > 2:
            folder.chmod(0o711)
    tmp_path.chmod(0o711)
    cached = make_file(home / ".cache/drawing/big", 9000, days_old=99)
    make_file(home / ".tmp/old", days_old=9)
    for path in (home, *home.rglob("*")):
        os.chown(path, 1234, 1234)
        path.chmod(0o700 if path.is_dir() else 0o600)
    before = cached.stat()
    command = [
        "setpriv", f"--bounding-set=-all,{names}", "--inh-caps=-all", "--no-new-privs",
        sys.executable, "-c", _WORK, str(volume), str(own),
    ]  # fmt: skip
    tests = Path(__file__).parents[1]
    environment = os.environ | {"PYTHONPATH": str(tests)}
    told = subprocess.run(
        command, capture_output=True, text=True, timeout=60, check=False, env=environment
    )
    assert told.returncode == 0, told.stderr
    assert told.stdout.split() == ["1", "1", "1", "True"]
    after = cached.stat()
    assert (after.st_uid, after.st_mode, after.st_ino) == (1234, before.st_mode, before.st_ino)


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="no systemd here to ask")
def test_systemd_finds_nothing_wrong_with_the_unit(tmp_path: Path) -> None:
    path = tmp_path / "phylax-agent.service"
    path.write_text(commands.unit(AgentHome(tmp_path)))
    checked = ["systemd-analyze", "verify", str(path)]
    told = subprocess.run(checked, capture_output=True, text=True, timeout=60, check=False)
    assert (told.returncode, told.stderr) == (0, "")


def test_the_task_of_windows_is_well_formed() -> None:
    text = resources.files("phylax.agent.units").joinpath("windows-task.xml").read_text("utf-8")
    task = ET.fromstring(text.partition("?>")[2])
    space = "{http://schemas.microsoft.com/windows/2004/02/mit/task}"
    assert task.find(f"{space}Triggers/{space}BootTrigger") is not None
    limit = task.find(f"{space}Settings/{space}ExecutionTimeLimit")
    assert limit is not None and limit.text == "PT0S", "never ended for running long"
