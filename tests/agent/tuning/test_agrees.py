"""The system's own programs say the same of what starts as our list does."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from phylax.agent.machines.linux.startup import sign_in
from phylax.agent.machines.linux.startup.programs import programs
from phylax.agent.machines.linux.startup.switching import pieces_of_units
from phylax.agent.machines.linux.startup.units import Units
from phylax.agent.tuning.pieces import write
from phylax.core.tuning.programs import Intent
from startup_trees import add_file, lay, units

GENERATOR = Path("/usr/lib/systemd/user-generators/systemd-xdg-autostart-generator")
says = st.fixed_dictionaries(
    {"Type": st.sampled_from(["Application", "Link", ""]),
     "Exec": st.sampled_from(["/bin/true", "true -x", "/bin/nothing-here", "", '"/bin/true" %u'])},
    optional={"Hidden": st.sampled_from(["true", "false", "1", "no"]),
              "TryExec": st.sampled_from(["true", "/bin/true", "/bin/nothing-here"]),
              "X-GNOME-Autostart-enabled": st.sampled_from(["true", "false"]),
              "OnlyShowIn": st.sampled_from(["OTHER;", "TEST;OTHER;"]),
              "NotShowIn": st.sampled_from(["TEST;", "OTHER;"])},
)  # fmt: skip
Folder = dict[str, dict[str, str]]
folders = st.dictionaries(st.sampled_from(["a", "b", "c", "d"]), says, max_size=4)


@pytest.mark.skipif(not GENERATOR.exists(), reason="this system has no such generator")
@settings(deadline=None, max_examples=300)
@given(shared=folders, own=folders)
def test_what_starts_at_sign_in(
    shared: dict[str, dict[str, str]], own: dict[str, dict[str, str]]
) -> None:
    with tempfile.TemporaryDirectory() as name:
        home = Path(name, "home/anna")
        home.mkdir(parents=True)
        for folder, found in ((sign_in.SYSTEM, shared), (f"home/anna/{sign_in.PERSON}", own)):
            for entry, lines in found.items():
                text = "[Desktop Entry]\nName=x\n" + "".join(f"{k}={v}\n" for k, v in lines.items())
                add_file(Path(name), f"{folder}/{entry}.desktop", text)
        out = Path(name, "out")
        out.mkdir()
        surroundings = {
            "HOME": str(home), "XDG_CONFIG_HOME": str(home / ".config"), "PATH": os.environ["PATH"],
            "XDG_CONFIG_DIRS": str(Path(name, "etc/xdg")), "XDG_CURRENT_DESKTOP": "TEST",
        }  # fmt: skip
        subprocess.run(
            [GENERATOR, out, out, out], env=surroundings, check=True, stderr=subprocess.DEVNULL
        )
        theirs = {
            p.name.removeprefix("app-").removesuffix("@autostart.service")
            for p in out.glob("app-*.service")
        }
        ours = {
            e.name.removesuffix(".desktop")
            for e in sign_in.entries(str(home), name)
            if e.would_start("/", desktop="TEST")
        }
        # the generator leaves the desktop to a condition of the unit it writes
        conditional = {
            e.name.removesuffix(".desktop")
            for e in sign_in.entries(str(home), name)
            if e.would_start("/") and not e.would_start("/", desktop="TEST")
        }
        assert ours <= theirs <= ours | conditional


def says_of(root: Path, name: str) -> str:
    answer = subprocess.run(
        ["systemctl", f"--root={root}", "is-enabled", name],
        capture_output=True,
        text=True,
        check=False,
    )
    return answer.stdout.strip()


@pytest.mark.skipif(shutil.which("systemctl") is None, reason="this system has no systemctl")
@settings(deadline=None, max_examples=60)
@given(units(), st.sampled_from(Intent), st.integers(0, 3))
def test_what_starts_with_the_machine(
    laid: list[tuple[str, str, bool]], intent: Intent, which: int
) -> None:
    with tempfile.TemporaryDirectory() as name:
        root = Path(name)
        lay(root, laid)
        for again in range(2):
            for unit in Units(name):
                own = [p for p in unit.pulled_in if p.startswith("etc/")]
                said = says_of(root, unit.name)
                if unit.is_barred:
                    assert said == "masked"
                elif own and not any("rescue-too" in path for path in own):
                    assert said == "enabled", (unit, said)
                elif not unit.pulled_in:
                    assert said in ("disabled", "static", "indirect"), (unit, said)
            if again:
                return
            found = programs(name, [])
            plan = found[which % len(found)].plan(intent)
            if any(switch.is_by_hand for switch in plan):
                return
            for piece in pieces_of_units(name, plan):
                write(name, piece.path, piece.after)
