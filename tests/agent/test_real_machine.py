"""On this very machine: a mounted ext4 volume, files put in the trash by `gio`, sizes against `du`
and `df`, the command line as a person would type it."""

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterable
from pathlib import Path

import pytest

from conftest import Service
from helpers import PASSWORD, make_file
from phylax.client import Phylax, sign_in
from phylax.core.clients.shop import Machine


@pytest.fixture
def home(volume: Path) -> Path:
    home = volume / "home" / "anna"
    (home / ".local/share").mkdir(parents=True)
    make_file(home / "Documents/thesis.odt", 30_000, days_old=100)
    for number in range(50):
        make_file(home / f".tmp/build/part-{number}", 1000 + 977 * number, days_old=4)
    make_file(home / ".tmp/fresh", 5000)
    link = home / ".tmp/shortcut"
    link.symlink_to(home / "Documents")
    os.utime(link, (0, 0), follow_symlinks=False)
    return home


def phylax(owner: Phylax, token: Path, *words: str) -> subprocess.CompletedProcess[str]:
    env = os.environ | {"PYTHONPATH": "src", "COLUMNS": "160"}
    command = [sys.executable, "-m", "phylax", "--url", owner.url, "--token-file", str(token)]
    return subprocess.run([*command, *words], capture_output=True, text=True, env=env, timeout=60)


def du(*paths: Path) -> int:
    """Allocated bytes of files, each once, as `du` counts them; folders not counted."""
    names = "\0".join(
        str(p) for top in paths for p in top.rglob("*") if p.is_symlink() or p.is_file()
    )
    summed = subprocess.run(
        ["du", "--block-size=1", "--total", "--files0-from=-", "--no-dereference"],
        input=names, capture_output=True, text=True, check=True,
    )  # fmt: skip
    return int(summed.stdout.splitlines()[-1].split()[0])


def df_available(mount: Path) -> int:
    os.sync()
    out = subprocess.run(
        ["df", "--block-size=1", "--output=avail", str(mount)], capture_output=True, text=True
    )
    return int(out.stdout.splitlines()[1])


def put_in_trash(home: Path, path: Path, days_ago: int) -> None:
    """By the desktop's own tool, which knows the trash by the same specification; then aged."""
    env = os.environ | {"HOME": str(home), "XDG_DATA_HOME": str(home / ".local/share")}
    subprocess.run(["gio", "trash", str(path)], check=True, env=env)
    (info,) = (home / ".local/share/Trash/info").glob(f"{path.name}*.trashinfo")
    lines = info.read_text().splitlines()
    dated = subprocess.run(
        ["date", "-d", f"{days_ago} days ago", "+%Y-%m-%dT%H:%M:%S"], capture_output=True, text=True
    ).stdout.strip()
    info.write_text(
        "\n".join(f"DeletionDate={dated}" if x.startswith("DeletionDate") else x for x in lines)
    )


@pytest.mark.skipif(not shutil.which("gio"), reason="needs gio (Debian's libglib2.0-bin)")
def test_a_real_machine_is_surveyed_and_cleaned_to_the_byte(
    owner: Phylax, service: Service, machine: Machine, home: Path, volume: Path, tmp_path: Path,
    make_old: Callable[[Iterable[Path], float], None],
) -> None:  # fmt: skip
    token = tmp_path / "token"
    token.write_text(sign_in(owner.url, "ines", PASSWORD))
    for name, size, days in [("old-film", 700_000, 45), ("recent-film", 300_000, 2)]:
        put_in_trash(home, make_file(home / "Documents" / name, size), days)
    make_file(home / "Documents/album/one", 90_000)
    make_file(home / "Documents/album/two", 80_000)
    put_in_trash(home, home / "Documents/album", 40)
    files = home / ".local/share/Trash/files"
    make_old([files / "old-film", files / "album"], 45)
    make_old([path for path in (home / ".tmp").rglob("*") if path.name != "fresh"], 4)

    code = json.loads(
        phylax(owner, token, "machine", "make-code", "ferry-desk", "--format", "json").stdout
    )
    folder = tmp_path / "agent"
    enrolled = phylax(
        owner, token, "agent", "enrol", owner.url, code["code"],
        "--data", str(folder), "--home", str(home),
    )  # fmt: skip
    assert "Enrolled as ferry-desk" in enrolled.stdout, enrolled.stderr
    assert phylax(owner, token, "survey", "start", "ferry-desk", "--no-wait").returncode == 0
    done = phylax(owner, token, "agent", "once", "--data", str(folder))
    assert "the work is done" in done.stdout, done.stderr

    found = owner.machines.get("ferry-desk")
    assert [v.mount for v in found.volumes] == [str(volume)]
    lines = {line.category: line for line in owner.machines.ledger("ferry-desk").lines}
    assert lines["user-temp"].total.size == du(home / ".tmp")
    trash = home / ".local/share/Trash/files"
    folders = sum(p.stat().st_blocks * 512 for p in trash.rglob("*") if p.is_dir())
    assert lines["trash"].total.size == du(trash) + folders
    assert (lines["trash"].total.count, lines["trash"].removable.count) == (3, 2)

    before = df_available(volume)
    opened = home / ".tmp/build/part-7"
    with opened.open():
        cleaning = phylax(
            owner, token, "run", "clean", "ferry-desk", "user-temp", "trash", "--yes", "--no-wait"
        )
        assert cleaning.returncode == 0, cleaning.stderr
        phylax(owner, token, "agent", "once", "--data", str(folder))
    (run,) = [r for r in owner.runs.list() if r.work == "clean"]
    shown = phylax(owner, token, "run", "show", str(run.id)).stdout
    assert run.state == "partly" and "build/part-7 – in use" in shown
    assert opened.exists() and not (home / ".tmp/build/part-8").exists()
    assert (home / "Documents/thesis.odt").exists() and not (home / ".tmp/shortcut").exists()
    assert sorted(p.name for p in trash.iterdir()) == ["recent-film"]

    gained = df_available(volume) - before
    assert run.freed == gained and run.removed is not None
    # the emptied folders' own blocks and the trash's notes come on top of the files' blocks
    assert run.removed.size <= gained <= run.removed.size + 6 * 4096
