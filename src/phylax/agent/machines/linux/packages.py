"""Installed kernels and programs, from dpkg's and apt's own databases (dpkg's status file is in the
Debian control format: paragraphs of `Field: value`, Debian Policy 5.1)."""

from __future__ import annotations

import errno
import os
import re
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from typing import NamedTuple

from phylax.agent.machines import Thing
from phylax.agent.machines.linux import package_preconditions
from phylax.core.ground.values import from_seconds
from phylax.core.inventory.programs import InstalledProgram, Removal

_KERNEL = re.compile(r"linux-image-(?:unsigned-)?(\d\S*)")
_KERNEL_PARTS = ("linux-image-", "linux-image-unsigned-", "linux-modules-", "linux-modules-extra-",
                 "linux-headers-")  # fmt: skip
SYSTEM_UMASK = 0o022
"""What maintainer scripts expect, whatever the agent's own is: what they make is everybody's to
read."""
_PROGRAM_FOLDERS = ("/usr/bin/", "/usr/games/", "/usr/sbin/", "/bin/", "/opt/")
_TRIAL = re.compile(r"\b(trial|evaluation|demo) (version|copy|period)\b", re.IGNORECASE)
_NEVER_LISTED = ("required", "important", "standard")


class Package(NamedTuple):
    """A package that is installed, whole."""

    name: str
    version: str
    size: int
    is_essential: bool
    maker: str
    summary: str


class Packages:
    """The package database below a root folder; empty where there is no dpkg."""

    def __init__(self, root: str = "/") -> None:
        self._root = root
        self._info = os.path.join(root, "var/lib/dpkg/info")

    def kernels(self, running: str) -> Iterator[Thing]:
        """Every installed kernel but the running one, with its modules and headers.

        Its age counts from its installation; a higher version is never older than a lower one.
        """
        installed = {p["Package"]: p for p in self._installed()}
        versions = [m[1] for name in installed if (m := _KERNEL.fullmatch(name))]
        versions = [v for v in versions if os.path.exists(self._path(f"/boot/vmlinuz-{v}"))]
        newest_yet = 0
        for version in sorted(set(versions), key=_by_version):
            names = [p + version for p in _KERNEL_PARTS if p + version in installed]
            newest_yet = max(newest_yet, *(self._installed_at(installed[n]) for n in names))
            if version != running:
                size = sum(_size(installed[name]) for name in names)
                yield Thing(name=version, size=size, aged_from=newest_yet, group="kernels")

    def remove_kernel(
        self, version: str, running: str, breathe: Callable[[], None] = lambda: None
    ) -> None:
        """Let one kernel go with its modules and headers, by `dpkg --remove`.

        dpkg itself refuses what another package needs; nothing else is removed with it. OSError
        where it is the running one, is not there, or dpkg refuses.
        """
        if version == running:
            raise OSError(errno.EBUSY, "this kernel is the running one", version)
        if version not in {kernel.name for kernel in self.kernels(running)}:
            raise FileNotFoundError(errno.ENOENT, "no such kernel is installed", version)
        if why := package_preconditions.why_not(self._root):
            raise OSError(errno.EPERM, f"nothing was begun: {why}", version)
        installed = {p["Package"] for p in self._installed()}
        names = [p + version for p in _KERNEL_PARTS if p + version in installed]
        command = ["dpkg", f"--root={self._root}", "--remove", *reversed(names)]
        quiet = os.environ | {"DEBIAN_FRONTEND": "noninteractive", "LC_ALL": "C.UTF-8"}
        with tempfile.TemporaryFile("w+") as output:
            dpkg = subprocess.Popen(
                command, env=quiet, stdin=subprocess.DEVNULL, stdout=output, stderr=output,
                start_new_session=True, umask=SYSTEM_UMASK,
            )  # fmt: skip
            # not to be cut off half way: a package manager must end what it has begun
            while dpkg.poll() is None:
                time.sleep(0.1)
            output.seek(0)
            lines = [line.strip() for line in output if line.strip()]
        breathe()
        if dpkg.returncode:
            at = next(
                (n for n, line in enumerate(lines) if "error" in line or "problem" in line), 0
            )
            raise OSError(errno.EPERM, f"dpkg refuses: {' '.join(lines[at : at + 2])}", version)

    def programs(self) -> Iterator[Thing]:
        """What somebody installed on purpose, by its last use where the volume notes that."""
        for package, used_at in self._on_purpose():
            yield Thing(name=package["Package"], size=_size(package), aged_from=used_at)

    def installed_programs(self) -> Iterator[InstalledProgram]:
        """The same, with versions and who made them."""
        for package, used_at in self._on_purpose():
            summary = package.get("Description", "")
            yield InstalledProgram(
                key=package["Package"],
                name=package["Package"],
                version=package.get("Version", ""),
                maker=package.get("Maintainer", "")[:500],
                size=_size(package),
                last_used=None if used_at is None else from_seconds(used_at),
                installed_at=from_seconds(self._installed_at(package)),
                trial=bool(_TRIAL.search(summary)),
                removal=Removal.BY_AGENT,
            )

    def installed(self) -> Iterator[Package]:
        """Everything that is installed, whole."""
        for package in self._installed():
            yield Package(
                name=package["Package"],
                version=package.get("Version", ""),
                size=_size(package),
                is_essential="yes" in (package.get("Essential"), package.get("Protected"))
                or package.get("Priority") == "required",
                maker=package.get("Maintainer", ""),
                summary=package.get("Description", ""),
            )

    def unfinished(self) -> dict[str, str]:
        """What was begun and not ended, with the state that dpkg gives it."""
        states = {
            package["Package"]: package.get("Status", "").split()[-1:] for package in self._known()
        }
        finished = ("installed", "config-files", "not-installed")
        return {
            name: state[0] for name, state in states.items() if state and state[0] not in finished
        }

    def is_cut_off(self) -> bool:
        """Whether dpkg was cut off before it had written its status file: apt installs nothing
        until it has, however whole all packages are."""
        return bool(self._notes())

    def _notes(self) -> list[str]:
        """The numbered files that dpkg notes changes in while it is at work, oldest first."""
        folder = self._path("var/lib/dpkg/updates")
        names = os.listdir(folder) if os.path.isdir(folder) else []
        return [os.path.join(folder, n) for n in sorted(filter(str.isdecimal, names), key=int)]

    def _on_purpose(self) -> Iterator[tuple[dict[str, str], int | None]]:
        on_their_own = self._installed_on_their_own()
        for package in self._installed():
            if (
                package["Package"] in on_their_own
                or package.get("Essential") == "yes"
                or package.get("Priority") in _NEVER_LISTED
            ):
                continue
            programs = [f for f in self._files(package) if f.startswith(_PROGRAM_FOLDERS)]
            if programs:
                yield package, self._last_use(programs)

    def _path(self, path: str) -> str:
        return os.path.join(self._root, path.lstrip("/"))

    def _installed(self) -> Iterator[dict[str, str]]:
        for package in self._known():
            if package.get("Status", "").split()[-1:] == ["installed"]:
                yield package

    def _known(self) -> Iterator[dict[str, str]]:
        """Every package that dpkg knows, with what it noted while it was at work.

        dpkg writes its status file when it ends; until then, and for good where it was cut off,
        what changed stands in numbered files beside it.
        """
        noted = {
            (package.get("Package"), package.get("Architecture")): package
            for path in self._notes()
            for package in _paragraphs(path)
        }
        for package in _paragraphs(self._path("var/lib/dpkg/status")):
            at = package.get("Package"), package.get("Architecture")
            if at[0] is not None:
                yield noted.pop(at, package)
        yield from (package for package in noted.values() if "Package" in package)

    def held(self) -> set[str]:
        """What somebody told dpkg to leave as it is."""
        return {p["Package"] for p in self._known() if p.get("Status", "").startswith("hold ")}

    def _installed_on_their_own(self) -> set[str]:
        """Packages that others drew in, as apt notes them."""
        paragraphs = _paragraphs(self._path("var/lib/apt/extended_states"))
        return {p["Package"] for p in paragraphs if p.get("Auto-Installed") == "1"}

    def _list(self, package: dict[str, str]) -> str:
        plain = os.path.join(self._info, f"{package['Package']}.list")
        if os.path.exists(plain):
            return plain
        name = f"{package['Package']}:{package.get('Architecture', '')}.list"
        return os.path.join(self._info, name)

    def _installed_at(self, package: dict[str, str]) -> int:
        try:
            return int(os.stat(self._list(package)).st_mtime)
        except OSError:
            return 0

    def _files(self, package: dict[str, str]) -> list[str]:
        try:
            with open(self._list(package), encoding="utf-8", errors="surrogateescape") as lines:
                return lines.read().splitlines()
        except OSError:
            return []

    def _last_use(self, programs: list[str]) -> int | None:
        """When one of the programs was last read; None where the volume does not note that."""
        newest: int | None = None
        for program in programs:
            path = self._path(program)
            try:
                st = os.stat(path)
                if os.statvfs(path).f_flag & (os.ST_NOATIME | os.ST_RDONLY):
                    return None
            except OSError:
                continue
            newest = max(newest or 0, int(st.st_atime))
        return newest


def _paragraphs(path: str) -> Iterator[dict[str, str]]:
    """The paragraphs of a control file; none where there is no such file."""
    package: dict[str, str] = {}
    try:
        with open(path, encoding="utf-8", errors="replace") as lines:
            for line in lines:
                if not line.strip():
                    if package:
                        yield package
                    package = {}
                elif not line[0].isspace():
                    field, _, value = line.partition(":")
                    package[field] = value.strip()
    except FileNotFoundError:
        return
    if package:
        yield package


def _size(package: dict[str, str]) -> int:
    """`Installed-Size` is in KiB (Debian Policy 5.6.20)."""
    return int(package.get("Installed-Size") or 0) * 1024


def _by_version(version: str) -> list[tuple[int, str]]:
    """Numbers as numbers: 6.1.0-9 before 6.1.0-13."""
    return [(int(n), "") if n else (-1, rest) for n, rest in re.findall(r"(\d+)|(\D+)", version)]
