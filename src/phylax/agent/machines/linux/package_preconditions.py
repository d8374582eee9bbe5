"""Whether a package manager that is started here can end what it begins.

One that cannot write where it must, has no room, or lacks a right leaves packages half installed.
Proven before it starts; what is missing is said.
"""

from __future__ import annotations

import os
from collections.abc import Iterator

from phylax.core.ground.quantities import show_size

_WRITTEN = ("usr", "usr/bin", "usr/lib", "usr/share", "etc", "var/lib/dpkg", "var/lib/dpkg/info",
            "var/cache/apt/archives", "var/log", "boot", "opt", "lib/modules")  # fmt: skip
"""Folders that packages and their scripts write to, as far as there are such."""
MARGIN = 32 * 2**20
"""Bytes that must stay free for the package manager's own notes and what scripts make."""


def why_not(root: str = "/", process: str = "/proc/self", first: str = "/proc/1") -> str:
    """What keeps a package manager from finishing whatever it installs; empty: nothing."""
    for folder in _WRITTEN:
        path = os.path.join(root, folder)
        if os.path.isdir(path) and not os.access(path, os.W_OK):
            return f"/{folder} cannot be written to from here"
    own, of_all = _status(process), _status(first)
    if own.get("NoNewPrivs") == "1" and of_all.get("NoNewPrivs") != "1":
        return "programs that it starts may not take the rights they need"
    have = int(own.get("CapEff", "0"), 16)
    # what every process of the system could have, not what its first one still has
    need = int(of_all.get("CapEff", "0"), 16) & int(of_all.get("CapBnd", "0"), 16)
    if missing := need & ~have:
        return f"it lacks rights of the system: capabilities {missing:#x}"
    return ""


def why_no_room(fetched: int, unpacked: int, root: str = "/", *, kernel: bool = False) -> str:
    """What has too little room for a package of so many bytes, fetched and unpacked; empty:
    nothing. A new version is unpacked beside the old one."""
    for folder, bytes_needed in _needs(fetched, unpacked, root, kernel):
        path = os.path.join(root, folder)
        if not os.path.isdir(path):
            continue
        space = os.statvfs(path)
        free = space.f_bavail * space.f_frsize
        if free < bytes_needed:
            return f"/{folder} has {show_size(free)} free, and it needs {show_size(bytes_needed)}"
    return ""


def _needs(fetched: int, unpacked: int, root: str, kernel: bool) -> Iterator[tuple[str, int]]:
    yield "var/cache/apt/archives", fetched + MARGIN
    yield "var/lib/dpkg", MARGIN
    yield "usr", unpacked + MARGIN
    if kernel:
        yield "boot", _largest(root, "vmlinuz-") + _largest(root, "initrd.img-") + MARGIN


def _largest(root: str, prefix: str) -> int:
    boot = os.path.join(root, "boot")
    names = os.listdir(boot) if os.path.isdir(boot) else []
    sizes = (
        os.lstat(os.path.join(boot, name)).st_size for name in names if name.startswith(prefix)
    )
    return max(sizes, default=0)


def _status(process: str) -> dict[str, str]:
    """Lines of proc(5) status; none where it may not be read."""
    try:
        with open(os.path.join(process, "status"), encoding="ascii", errors="replace") as lines:
            return {
                name: value.strip() for name, _, value in (line.partition(":") for line in lines)
            }
    except OSError:
        return {}
