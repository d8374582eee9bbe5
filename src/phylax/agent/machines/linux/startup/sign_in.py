"""Entries that start programs when a person signs in (Desktop Application Autostart Specification).

The person's own folder comes before the system's: an entry of the same name there counts alone.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass

from phylax.agent.machines.linux.startup import ini_files
from phylax.agent.machines.linux.startup.ini_files import Sections, is_text

SYSTEM = "etc/xdg/autostart"
PERSON = ".config/autostart"
_SECTION = "Desktop Entry"
MOST = 1000
"""So many entries of a folder are looked at."""


@dataclass(frozen=True)
class Entry:
    """One entry, as it counts for a person."""

    name: str
    """Its file's name."""
    text: str
    is_own: bool
    """Whether it lies in the person's own folder."""
    system_text: str | None
    """What the system's entry of the same name says; None where there is none."""

    @property
    def says(self) -> Sections:
        return ini_files.parse(self.text)

    def says_once(self, key: str) -> str:
        return ini_files.last(self.says, _SECTION, key)

    @property
    def is_the_systems(self) -> bool:
        """Whether it runs what the system's entry of that name does, switched off or not."""
        if self.system_text is None:
            return False
        theirs = ini_files.last(ini_files.parse(self.system_text), _SECTION, "Exec")
        return self.says_once("Exec") == theirs

    def would_start(self, root: str = "/", desktop: str = "") -> bool:
        """Whether it would start its program; with a desktop's name, in that desktop."""
        tried = self.says_once("TryExec")
        return (
            self.says_once("Type") == "Application"
            and not ini_files.is_true(self.says_once("Hidden"))
            and bool(self.program)
            and _is_there(root, self.program)
            and (not tried or _is_there(root, tried))
            and (not desktop or self._is_for(desktop))
        )

    def _is_for(self, desktop: str) -> bool:
        only, never = ([name for name in self.says_once(key).split(";") if name]
                       for key in ("OnlyShowIn", "NotShowIn"))  # fmt: skip
        return (not only or desktop in only) and desktop not in never

    @property
    def program(self) -> str:
        """What it runs, without what it is told."""
        command = self.says_once("Exec").strip()
        if command.startswith('"'):
            return command[1:].partition('"')[0]
        return command.split(maxsplit=1)[0] if command else ""


def entries(home: str, root: str = "/") -> Iterator[Entry]:
    """Everything that is there to start when a person signs in, on or off, by name; without a home
    what the system has for everybody."""
    own = _files(os.path.join(home, PERSON)) if home else {}
    shared = _files(os.path.join(root, SYSTEM))
    for name in sorted(own.keys() | shared.keys()):
        path = own.get(name) or shared[name]
        text = ini_files.read_text(path)
        if text is not None:
            of_system = ini_files.read_text(shared[name]) if name in shared else None
            yield Entry(name=name, text=text, is_own=name in own, system_text=of_system)


def find(root: str, program: str) -> str:
    """The whole path of a program on the machine; as it is where it is not found."""
    if "/" in program:
        return program
    for folder in ("usr/local/bin", "usr/bin", "bin", "usr/games", "usr/sbin", "sbin"):
        if os.path.isfile(os.path.join(root, folder, program)):
            return f"/{folder}/{program}"
    return program


def _is_there(root: str, program: str) -> bool:
    path = os.path.join(root, find(root, program).lstrip("/"))
    return os.path.isfile(path) and os.access(path, os.X_OK)


def _files(folder: str) -> dict[str, str]:
    """Entries of a folder by their name; what is odd is left out."""
    try:
        with os.scandir(folder) as found:
            # names that are no text are nobody's entry that could be named to anybody
            names = sorted(
                e.name for e in found if e.name.endswith(".desktop") and is_text(e.name)
            )[:MOST]
    except OSError:
        return {}
    return {name: os.path.join(folder, name) for name in names}


def switched_off(text: str) -> str:
    """An entry with the words that keep it from starting (`Hidden=true`)."""
    lines, section, done = [], "", False
    for line in text.splitlines():
        said = line.strip()
        if said.startswith("[") and said.endswith("]"):
            section = said[1:-1]
        if section == _SECTION and said.partition("=")[0].strip() == "Hidden":
            continue
        lines.append(line)
        if said == f"[{_SECTION}]" and not done:
            lines.append("Hidden=true")
            done = True
    if not done:
        lines = [f"[{_SECTION}]", "Type=Application", "Hidden=true"]
    return "\n".join(lines) + "\n"


def switched_on(text: str) -> str:
    """An entry without the words that keep it from starting."""
    lines, section = [], ""
    for line in text.splitlines():
        said = line.strip()
        if said.startswith("[") and said.endswith("]"):
            section = said[1:-1]
        if section != _SECTION or said.partition("=")[0].strip() != "Hidden":
            lines.append(line)
    return "\n".join(lines) + "\n"
