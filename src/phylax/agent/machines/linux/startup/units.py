"""Units: what the system starts, listens for and times; read and switched by their links.

A unit is on where another pulls it in by a link (`*.wants`, `*.requires`); it is barred where its
name leads to `/dev/null`. Links below `etc` are the administrator's and can be changed; those that
a package brought cannot.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

from phylax.agent.machines.linux.startup import ini_files
from phylax.agent.machines.linux.startup.ini_files import Sections

Scope = Literal["system", "user"]
SUFFIXES = (".service", ".socket", ".timer", ".path")
NAME = re.compile(r"[A-Za-z0-9:_.\\-]+(@[A-Za-z0-9:_.\\-]*)?\.(service|socket|timer|path|target)")
_NOWHERE = "/dev/null"


@dataclass(frozen=True)
class Unit:
    """One unit, with its drop-ins."""

    name: str
    path: str
    """Of its file, on the machine; empty where links name it and there is none."""
    says: Sections = field(default_factory=dict, hash=False, compare=False)
    is_barred: bool = False
    pulled_in: tuple[str, ...] = ()
    """Links that pull it in, as paths on the machine."""

    @property
    def suffix(self) -> str:
        return "." + self.name.rpartition(".")[2]

    @property
    def is_on(self) -> bool:
        return bool(self.pulled_in) and not self.is_barred

    def words(self, section: str, key: str) -> list[str]:
        return ini_files.words(self.says, section, key)

    def says_once(self, section: str, key: str) -> str:
        return ini_files.last(self.says, section, key)

    @property
    def program(self) -> str:
        """The file that it runs; empty where it runs none."""
        command = self.says_once("Service", "ExecStart").lstrip("-@:+!|").strip()
        first = command.split(maxsplit=1)[0] if command else ""
        return first if first.startswith("/") else ""

    @property
    def starts(self) -> str:
        """The unit that a timer, socket or path starts."""
        section = self.suffix[1:].capitalize()
        named = self.says_once(section, "Unit" if section != "Socket" else "Service")
        if named:
            return named
        stem = self.name.removesuffix(self.suffix)
        per_connection = section == "Socket" and ini_files.is_true(
            self.says_once("Socket", "Accept")
        )
        return f"{stem}{'@' if per_connection else ''}.service"

    @property
    def needs(self) -> set[str]:
        """Units that it cannot be without, the unspoken ones too."""
        named = {n for key in ("Requires", "BindsTo", "Requisite") for n in self.words("Unit", key)}
        if self.says_once("Service", "BusName") or self.says_once("Service", "Type") == "dbus":
            named.add("dbus.socket")
        if self.suffix != ".service":
            named.add(self.starts)
        return named

    @property
    def when(self) -> str:
        """A timer's time, or what a socket listens on."""
        section = self.says.get(self.suffix[1:].capitalize(), {})
        shown = [
            f"{key.removeprefix('On').removeprefix('Listen')} {value}"
            if key not in ("OnCalendar", "ListenStream")
            else value
            for key, values in section.items()
            if key.startswith(("On", "Listen", "Path", "Directory"))
            for value in values
        ]
        return ", ".join(shown)[:300]


class Units:
    """All units below a root, of the system or of people's sessions."""

    def __init__(self, root: str = "/", scope: Scope = "system") -> None:
        self.root = root
        self.scope: str = scope
        self.own = f"etc/systemd/{scope}"
        self._folders = [self.own, f"run/systemd/{scope}", f"usr/local/lib/systemd/{scope}",
                         f"usr/lib/systemd/{scope}"]  # fmt: skip
        if not os.path.islink(self._on_disk("lib")):
            self._folders.append(f"lib/systemd/{scope}")

    def _on_disk(self, path: str) -> str:
        return os.path.join(self.root, path.lstrip("/"))

    def __iter__(self) -> Iterator[Unit]:
        """Every unit that starts something, by name; aliases are not listed apart."""
        for name in sorted(self._files.keys() | self._pulls.keys()):
            if name.endswith(SUFFIXES) and not name.partition("@")[2].startswith("."):
                real = self.real_name(name)
                if real == name:
                    yield self.unit(name)

    def unit(self, name: str) -> Unit:
        """One unit by its name; of a barred one what the bar hides."""
        path = self._files.get(name) or self._files.get(self._template(name)) or ""
        barred = self._is_barred(path)
        if barred:
            path = self._hidden(name)
        texts = [ini_files.read_text(self._on_disk(path)) or ""] if path else []
        texts += [
            ini_files.read_text(self._on_disk(drop_in)) or "" for drop_in in self._drop_ins(name)
        ]
        pulls = [*self._pulls.get(name, ())]
        for alias in self._aliases.get(name, ()):
            pulls += self._pulls.get(alias, ())
        return Unit(
            name=name,
            path=path,
            says=ini_files.merged(texts),
            is_barred=barred,
            pulled_in=tuple(pulls),
        )

    def _hidden(self, name: str) -> str:
        """The file that a bar hides; empty where there is none."""
        barred_at = self._files[name].rpartition("/")[0]
        later = self._folders[self._folders.index(barred_at) + 1 :]
        paths = [f"{folder}/{name}" for folder in later]
        return next((p for p in paths if os.path.lexists(self._on_disk(p))), "")

    def real_name(self, name: str) -> str:
        """The unit that an alias stands for."""
        for _ in range(8):
            path = self._files.get(name, "")
            on_disk = self._on_disk(path)
            if not path or not os.path.islink(on_disk) or self._is_barred(path):
                return name
            target = os.path.basename(os.readlink(on_disk))
            if target == name or not NAME.fullmatch(target):
                return name
            name = target
        return name

    def links_of(self, unit: Unit) -> list[str]:
        """Links below `etc` by which a unit is on, as paths on the machine: those that pull it in
        and its aliases there."""
        aliases = [
            self._files[alias]
            for alias in self._aliases.get(unit.name, ())
            if self._files[alias].startswith(f"{self.own}/")
        ]
        pulls = [path for path in unit.pulled_in if path.startswith(f"{self.own}/")]
        return sorted({*pulls, *aliases})

    def links_wanted(self, unit: Unit) -> list[tuple[str, str]]:
        """The links that its `[Install]` part asks for: path and target."""
        target = self.named(unit)
        made = [
            (f"{self.own}/{wanting}.{kind}/{unit.name}", target)
            for key, kind in (("WantedBy", "wants"), ("RequiredBy", "requires"))
            for wanting in unit.words("Install", key)
            if NAME.fullmatch(wanting)
        ]
        made += [
            (f"{self.own}/{alias}", target)
            for alias in unit.words("Install", "Alias")
            if NAME.fullmatch(alias)
        ]
        return sorted(set(made))

    def named(self, unit: Unit) -> str:
        """A unit's file, as a link on the machine leads to it."""
        return f"/{unit.path}"

    def bar_path(self, name: str) -> str:
        """Where a link to nowhere bars a unit."""
        return f"{self.own}/{name}"

    # --- what lies in the folders -------------------------------------------------------------

    @cached_property
    def _files(self) -> dict[str, str]:
        """Each unit's file by its name: the first folder that has it counts."""
        by_name: dict[str, str] = {}
        for folder in self._folders:
            for entry in _entries(self._on_disk(folder)):
                if NAME.fullmatch(entry.name) and not entry.is_dir(follow_symlinks=False):
                    by_name.setdefault(entry.name, f"{folder}/{entry.name}")
        return by_name

    @cached_property
    def _pulls(self) -> dict[str, list[str]]:
        """Links by which units pull others in, by the name pulled in."""
        by_name: dict[str, list[str]] = {}
        for folder in self._folders:
            for entry in _entries(self._on_disk(folder)):
                if not entry.name.endswith((".wants", ".requires")):
                    continue
                for link in _entries(entry.path):
                    if NAME.fullmatch(link.name):
                        path = f"{folder}/{entry.name}/{link.name}"
                        by_name.setdefault(link.name, []).append(path)
        return by_name

    @cached_property
    def _aliases(self) -> dict[str, list[str]]:
        by_name: dict[str, list[str]] = {}
        for name in self._files:
            real = self.real_name(name)
            if real != name:
                by_name.setdefault(real, []).append(name)
        return by_name

    def _is_barred(self, path: str) -> bool:
        if not path:
            return False
        on_disk = self._on_disk(path)
        if os.path.islink(on_disk):
            return os.readlink(on_disk) == _NOWHERE
        try:
            return os.path.getsize(on_disk) == 0
        except OSError:
            return False

    def _template(self, name: str) -> str:
        stem, at, rest = name.partition("@")
        return f"{stem}@.{rest.rpartition('.')[2]}" if at else ""

    def _drop_ins(self, name: str) -> Sequence[str]:
        """Paths of drop-ins, in the order in which they count."""
        by_name: dict[str, str] = {}
        for folder in reversed(self._folders):
            for unit in (self._template(name), name):
                for entry in _entries(self._on_disk(f"{folder}/{unit}.d")) if unit else ():
                    if entry.name.endswith(".conf"):
                        by_name[entry.name] = f"{folder}/{unit}.d/{entry.name}"
        return [by_name[key] for key in sorted(by_name)]


def _entries(folder: str) -> list[os.DirEntry[str]]:
    try:
        with os.scandir(folder) as entries:
            return sorted(entries, key=lambda entry: entry.name)
    except OSError:
        return []


class PersonsUnits(Units):
    """What a person's own links and files say of their session's units."""

    def __init__(self, home: str, person: str, root: str = "/") -> None:
        """To be read with that person's rights only."""
        super().__init__(home, "user")
        self._home = home
        self.scope = f"user:{person}"
        self.own = ".config/systemd/user"
        self._folders = [self.own, ".local/share/systemd/user"]
        self._of_system = Units(root, "user")

    def unit(self, name: str) -> Unit:
        own = super().unit(name)
        if own.path or own.is_barred:
            return own
        # a link of theirs to what the system brought
        return replace(self._of_system.unit(name), pulled_in=own.pulled_in, is_barred=False)

    def is_the_systems(self, name: str) -> bool:
        """Whether the system has a unit of that name, theirs or not."""
        return bool(self._of_system.unit(name).path)

    def is_own(self, name: str) -> bool:
        """Whether they have a file of that name."""
        return name in self._files

    def named(self, unit: Unit) -> str:
        if self.is_own(unit.name):
            return os.path.join(self._home, unit.path)
        return super().named(unit)
