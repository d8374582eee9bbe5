"""The demo machines' folder trees: sparse files with believable names, sizes and ages."""

from __future__ import annotations

import json
import os
import struct
from datetime import datetime, timedelta
from pathlib import Path
from random import Random

import tomli_w

from phylax.agent.machines.standin import STATE_FILE, THINGS_FILE
from phylax.agent.machines.standin_checks import CHECKS_FILE
from phylax.agent.machines.standin_upkeep import write_upkeep
from phylax.core.ground.machines import System
from phylax.demo import in_full, startup, upkeep
from phylax.demo.clutter import scatter, things
from phylax.demo.scenario import CHECKS, TREES, MachineSpec, Trees
from phylax.demo.tree import GIB, Tree

_FILETIME_EPOCH = 11_644_473_600
_ITEMS_PER_SECOND = 420.0

_DOWNLOADS = (".pdf", ".zip", ".jpg", ".docx", ".mp4", ".exe", ".dmg", ".iso", ".xlsx")


def build(folder: Path, spec: MachineSpec, now: datetime, random: Random) -> None:
    """Lay out a machine's tree and its state file in an empty folder."""
    system_volume = spec.volumes[0]
    top = folder / _volume_folder(system_volume.mount)
    homes = top / ("home" if spec.system is System.LINUX else "Users")
    tree = Tree(now, random)
    trees = TREES.get(spec.tag, Trees())
    _person(tree, homes / spec.person, spec.system, trees, top)
    scatter(tree, spec.tag, spec.system, homes / spec.person, top)
    for below, (number, gib) in trees.extra.items():
        tree.files(
            (number, gib),
            lambda: random.uniform(0, 240),
            lambda n, below=below: top / below / f"{tree.word()}-{n}.tif",  # type: ignore[misc]
        )
    listed = things(tree, spec.tag, spec.system, spec.memory)
    (folder / THINGS_FILE).write_text(json.dumps(listed, indent=1), encoding="utf-8")
    startup.lay(folder, spec, now)
    volumes = []
    for number, volume in enumerate(spec.volumes):
        root = folder / _volume_folder(volume.mount)
        root.mkdir(parents=True, exist_ok=True)
        laid_out = tree.total
        if number == 1:
            _windows_trash(tree, root, trees.second_trash, f"{volume.mount}\\Hulls")
            laid_out = tree.total - laid_out
        volumes.append(
            {
                "mount": volume.mount,
                "folder": _volume_folder(volume.mount),
                "capacity": int(volume.capacity * GIB),
                "base_used": int(volume.capacity * volume.used_now * GIB) - laid_out,
                "file_system": volume.file_system,
                "disk": volume.disk,
            }
        )
    state = {
        "system": str(spec.system),
        "host": spec.tag,
        "make": spec.make,
        "model": spec.model,
        "memory": spec.memory * GIB,
        **in_full.itself(spec),
        "people": [spec.person],
        "volumes": volumes,
        "own_folders": list(trees.own_folders),
        "files_in_use": [os.path.relpath(path, folder) for path in tree.in_use],
        "items_per_second": _ITEMS_PER_SECOND,
        "starting": startup.starting(spec).model_dump(mode="json"),
    }
    (folder / STATE_FILE).write_text(tomli_w.dumps(state), encoding="utf-8")
    write_upkeep(folder, upkeep.pretended(spec, now, random))
    if wrong := CHECKS.get(spec.tag):
        text = tomli_w.dumps(wrong.model_dump(mode="json"))
        (folder / CHECKS_FILE).write_text(text, encoding="utf-8")


def _volume_folder(mount: str) -> str:
    return {"/": "root"}.get(mount, mount.rstrip(":"))


def _person(tree: Tree, home: Path, system: System, trees: Trees, top: Path) -> None:
    random = tree.random
    temp, cache, documents = {
        System.WINDOWS: (
            "AppData/Local/Temp",
            "AppData/Local/Google/Chrome/User Data/Default/Cache/Cache_Data",
            "Documents",
        ),
        System.MACOS: (
            "Library/Caches/TemporaryItems",
            "Library/Caches/com.apple.Safari/WebKitCache",
            "Documents",
        ),
        System.LINUX: (".tmp", ".cache/mozilla/firefox/x4k2.default/cache2/entries", "Documents"),
    }[system]
    young_and_old = lambda: random.choice((random.uniform(0, 0.9), random.uniform(1, 60)))  # noqa: E731
    made = tree.files(
        trees.temp,
        young_and_old,
        lambda n: home / temp / f"session-{n % 17:02d}" / f"{tree.word()}-{n}.tmp",
    )
    tree.in_use += sorted(made, key=lambda p: p.stat().st_mtime)[:2]
    tree.files(
        trees.cache,
        lambda: random.uniform(0, 9),
        lambda n: home / cache / f"{n % 40:02x}" / f"{random.getrandbits(64):016x}",
    )
    tree.files(
        trees.downloads,
        lambda: random.uniform(2, 700),
        lambda n: home / "Downloads" / f"{tree.word()}-{n}{random.choice(_DOWNLOADS)}",
    )
    tree.files(
        trees.documents,
        lambda: random.uniform(1, 900),
        lambda n: home / documents / tree.word() / f"{tree.word()}-{n}.odt",
    )
    _trash(tree, home, system, trees, top)


def _trash(tree: Tree, home: Path, system: System, trees: Trees, top: Path) -> None:
    random = tree.random
    if system is System.WINDOWS:
        _windows_trash(tree, top, trees.trash, f"C:\\Users\\{home.name}")
    elif system is System.LINUX:
        trash = home / ".local/share/Trash"
        (trash / "info").mkdir(parents=True)
        for path in tree.files(
            trees.trash,
            lambda: random.uniform(60, 400),
            lambda n: trash / "files" / f"{tree.word()}-{n}.zip",
        ):
            deleted = (tree.now - timedelta(days=random.uniform(0, 55))).astimezone()
            info = trash / "info" / f"{path.name}.trashinfo"
            info.write_text(
                f"[Trash Info]\nPath={home}/{path.name}\n"
                f"DeletionDate={deleted:%Y-%m-%dT%H:%M:%S}\n",
                encoding="utf-8",
            )
            tree.total += info.stat().st_size
    else:
        tree.files(
            trees.trash,
            lambda: random.uniform(0, 55),
            lambda n: home / ".Trash" / f"{tree.word()}-{n}.zip",
        )


def _windows_trash(tree: Tree, top: Path, holds: tuple[int, float], came_from: str) -> None:
    """Files that were deleted from a folder of a volume."""
    random = tree.random
    bin_ = top / "$Recycle.Bin" / "S-1-5-21-4211-7733-1002-1001"
    for path in tree.files(
        holds, lambda: random.uniform(60, 400), lambda n: bin_ / f"$R{n:06X}.zip"
    ):
        deleted = tree.now - timedelta(days=random.uniform(0, 55))
        _write_recycle_info(path, deleted, f"{came_from}\\{tree.word()}.zip")
        tree.total += path.with_name("$I" + path.name[2:]).stat().st_size


def _write_recycle_info(path: Path, deleted: datetime, original: str) -> None:
    """The $I file beside a $R file, version 2: header, length, FILETIME, path in UTF-16."""
    filetime = int((deleted.timestamp() + _FILETIME_EPOCH) * 10_000_000)
    name = original + "\0"
    header = struct.pack("<qqqi", 2, path.stat().st_size, filetime, len(name))
    path.with_name("$I" + path.name[2:]).write_bytes(header + name.encode("utf-16-le"))
