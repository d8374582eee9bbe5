"""A small system of packages below a folder, with a repository of its own: never the host's."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from phylax.core.actions import ActionPart, UnderWay

_PATH = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8"}
_FOLDERS = (
    "etc/apt/apt.conf.d", "etc/apt/sources.list.d", "etc/apt/trusted.gpg.d",
    "var/lib/apt/lists/partial", "var/cache/apt/archives/partial", "var/lib/dpkg/info",
    "var/lib/dpkg/updates", "var/lib/dpkg/triggers", "var/log/apt", "usr/bin", "tmp",
)  # fmt: skip


def ended(parts: Iterable[ActionPart | UnderWay]) -> Iterator[ActionPart]:
    """What came of updates, without what was only begun."""
    return (part for part in parts if isinstance(part, ActionPart))


class AptRoot:
    """Packages that are made, offered and installed."""

    def __init__(self, folder: Path) -> None:
        self.root = folder / "root"
        self._made = folder / "made"
        for below in _FOLDERS:
            (self.root / below).mkdir(parents=True)
        (self.root / "var/lib/dpkg/status").touch()
        self._repositories: dict[str, Path] = {}
        self._folder = folder

    def make(
        self, name: str, version: str, *, depends: str = "", fields: str = "", script: str = "",
        removal: str = "",
    ) -> Path:  # fmt: skip
        """A package; `script` runs when it is installed, `removal` before it is removed."""
        tree = self._made / f"{name}-{version}"
        (tree / "DEBIAN").mkdir(parents=True, exist_ok=True)
        program = tree / "usr/bin" / name
        program.parent.mkdir(parents=True, exist_ok=True)
        program.write_text(f"#!/bin/sh\necho {version}\n")
        program.chmod(0o755)
        control = (
            f"Package: {name}\nVersion: {version}\nArchitecture: all\nSection: misc\n"
            f"Priority: optional\nMaintainer: Tests <tests@example>\nInstalled-Size: 40\n"
        )
        if depends:
            control += f"Depends: {depends}\n"
        (tree / "DEBIAN/control").write_text(f"{control}{fields}Description: made for a test\n")
        for file, text in (("postinst", script), ("prerm", removal)):
            if text:
                path = tree / "DEBIAN" / file
                path.write_text(f"#!/bin/sh\n{text}\n")
                path.chmod(0o755)
        path = self._made / f"{name}_{version}_all.deb"
        self._run("dpkg-deb", "--build", "--root-owner-group", str(tree), str(path))
        return path

    def install(self, *packages: Path) -> None:
        """By dpkg itself, as if it had always been there."""
        self._run("dpkg", f"--root={self.root}", "--force-not-root", "--force-script-chrootless",
                  f"--log={self.root}/var/log/dpkg.log", "-i", *map(str, packages))  # fmt: skip

    def offer(self, *packages: Path, origin: str = "Quayside") -> None:
        """Put packages into the repository of an origin, which is made where it is not there."""
        repository = self._repositories.setdefault(origin, self._folder / f"repo-{origin}")
        repository.mkdir(exist_ok=True)
        for package in packages:
            (repository / package.name).write_bytes(package.read_bytes())
        self.index(origin)
        lines = [f"deb [trusted=yes] file:{path} ./" for path in self._repositories.values()]
        (self.root / "etc/apt/sources.list").write_text("\n".join(lines) + "\n")

    @property
    def repository(self) -> Path:
        """The folder of the only repository."""
        (repository,) = self._repositories.values()
        return repository

    def hold(self, name: str) -> None:
        """As an administrator does who wants a package left alone."""
        admin = f"--admindir={self.root}/var/lib/dpkg"
        subprocess.run(["dpkg", admin, "--force-not-root", "--set-selections"], env=_PATH,
                       input=f"{name} hold\n", text=True, check=True)  # fmt: skip

    @contextmanager
    def at_work(self, name: str = "lock-frontend") -> Iterator[subprocess.Popen[str]]:
        """Somebody else installs: they have the lock until they end."""
        lock = self.root / "var/lib/dpkg" / name
        lock.touch()
        take = f"import fcntl,time;f=open({str(lock)!r},'w');fcntl.lockf(f,fcntl.LOCK_EX);" \
               "print('taken',flush=True);time.sleep(60)"  # fmt: skip
        other = subprocess.Popen([sys.executable, "-c", take], stdout=subprocess.PIPE, text=True)
        assert other.stdout is not None
        other.stdout.readline()
        try:
            yield other
        finally:
            other.kill()
            other.wait()
            other.stdout.close()

    def withdraw(self, name: str, origin: str = "Quayside") -> None:
        """Packages of a name are offered no more."""
        for path in self._repositories[origin].glob(f"{name}_*.deb"):
            path.unlink()
        self.index(origin)

    def index(self, origin: str, label: str = "") -> None:
        repository = self._repositories[origin]
        for old in ("Packages", "Release"):
            (repository / old).unlink(missing_ok=True)
        listed = self._run("dpkg-scanpackages", "-m", ".", cwd=repository)
        (repository / "Packages").write_text(listed)
        options = [
            word
            for field, value in (("Suite", "stable"), ("Label", label or origin),
                                 ("Origin", origin))
            for word in ("-o", f"APT::FTPArchive::Release::{field}={value}")
        ]  # fmt: skip
        release = self._run("apt-ftparchive", *options, "release", ".", cwd=repository)
        (repository / "Release").write_text(release)

    def version(self, name: str) -> str:
        """As dpkg has it, with its state; empty where it never was there."""
        admin = self.root / "var/lib/dpkg"
        command = ["dpkg-query", f"--admindir={admin}", "-W", "-f=${db:Status-Status} ${Version}"]
        said = subprocess.run([*command, name], env=_PATH, capture_output=True, text=True)
        return said.stdout if not said.returncode else ""

    def _run(self, *command: str, cwd: Path | None = None) -> str:
        said = subprocess.run(
            command, env=_PATH | {"TMPDIR": os.environ.get("TMPDIR", "/tmp")}, cwd=cwd, check=True,
            capture_output=True, text=True,
        )  # fmt: skip
        return said.stdout
