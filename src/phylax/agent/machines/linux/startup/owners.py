"""Which package a file belongs to, and what of a package must not be touched (Debian Policy 2.5,
3.8; dpkg's own lists)."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

_NEEDED = ("required", "important")


@dataclass(frozen=True)
class Package:
    name: str
    what: str = ""
    essential: bool = False
    priority: str = "optional"
    depends: tuple[str, ...] = ()

    @property
    def guarded(self) -> str:
        """Why nothing of it is switched; empty where nothing says so."""
        if self.essential:
            return "the system counts its package as essential"
        if self.priority in _NEEDED:
            return f"the system counts its package as {self.priority}"
        return ""


class Owners:
    """Installed packages below a root, and whose files are whose."""

    def __init__(self, root: str = "/") -> None:
        self._root = root
        self.packages = _installed(os.path.join(root, "var/lib/dpkg/status"))
        self._needed = _closure(self.packages)

    def of(self, paths: Iterable[str]) -> dict[str, Package]:
        """The package of each path that belongs to one; paths as on the machine."""
        wanted: dict[str, str] = {}
        for path in paths:
            for spelled in _spellings(path):
                wanted[spelled] = path
        owned: dict[str, Package] = {}
        folder = os.path.join(self._root, "var/lib/dpkg/info")
        try:
            lists = sorted(name for name in os.listdir(folder) if name.endswith(".list"))
        except OSError:
            return owned
        for name in lists:
            package = name.removesuffix(".list").partition(":")[0]
            with open(os.path.join(folder, name), encoding="utf-8", errors="replace") as lines:
                for line in lines:
                    path = wanted.get(line.rstrip("\n"), "")
                    if path:
                        owned[path] = self.packages.get(package, Package(package))
        return owned

    def why_guarded(self, package: Package) -> str:
        """Why nothing of a package is switched, by what the system says of it and what needs it."""
        if package.guarded:
            return package.guarded
        needing = self._needed.get(package.name)
        return f"{needing}, which the system counts as essential, needs it" if needing else ""


def _spellings(path: str) -> tuple[str, ...]:
    """A path as packages may list it: `/lib` and `/usr/lib` are one folder on merged systems."""
    for folder in ("bin", "sbin", "lib"):
        if path.startswith(f"/usr/{folder}/"):
            return path, path.removeprefix("/usr")
        if path.startswith(f"/{folder}/"):
            return path, f"/usr{path}"
    return (path,)


def _installed(status: str) -> dict[str, Package]:
    packages: dict[str, Package] = {}
    try:
        with open(status, encoding="utf-8", errors="replace") as file:
            text = file.read()
    except OSError:
        return packages
    for paragraph in text.split("\n\n"):
        fields: dict[str, str] = {}
        for line in paragraph.splitlines():
            if line[:1] not in (" ", "\t") and ":" in line:
                key, value = line.split(":", 1)
                fields[key.lower()] = value.strip()
        if not fields.get("status", "").endswith(" installed"):
            continue
        name = fields.get("package", "")
        depends = [
            choice.split("|")[0].strip().split(" ")[0].partition(":")[0]
            for key in ("depends", "pre-depends")
            for choice in fields.get(key, "").split(",")
        ]
        packages[name] = Package(
            name=name,
            what=fields.get("description", ""),
            essential="yes" in (fields.get("essential"), fields.get("protected")),
            priority=fields.get("priority", "optional"),
            depends=tuple(filter(None, depends)),
        )
    return packages


def _closure(packages: Mapping[str, Package]) -> dict[str, str]:
    """What essential packages need, and which of them does."""
    needed: dict[str, str] = {}
    waiting = [(name, package.name) for package in packages.values() if package.essential
               for name in package.depends]  # fmt: skip
    while waiting:
        name, because = waiting.pop()
        if name in needed or name not in packages:
            continue
        needed[name] = because
        waiting += [(further, because) for further in packages[name].depends]
    return needed
