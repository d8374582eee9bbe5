"""One list of what runs by itself: each program with everything that starts it."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Sequence
from dataclasses import dataclass, field

from phylax.agent.machines.linux.startup import keyfile, sign_in
from phylax.agent.machines.linux.startup.guarding import why_entry, why_unit
from phylax.agent.machines.linux.startup.owners import Owners, Package
from phylax.agent.machines.linux.startup.sign_in import Entry
from phylax.agent.machines.linux.startup.units import Scope, Unit, Units
from phylax.core.tuning.programs import Program, Starter, StarterKind

_KINDS = {
    ".service": StarterKind.START,
    ".timer": StarterKind.TIMER,
    ".socket": StarterKind.SOCKET,
    ".path": StarterKind.PATH,
}
_BUS = {
    "system": ("usr/local/share/dbus-1/system-services", "usr/share/dbus-1/system-services"),
    "user": ("usr/local/share/dbus-1/services", "usr/share/dbus-1/services"),
}
LARGEST_DIGESTED = 512 * 2**20
"""Bytes; a larger file is recognised by its package or not at all."""


@dataclass
class _Gathered:
    """A program while its starters are gathered."""

    name: str = ""
    what: str = ""
    path: str = ""
    command: str = ""
    package: Package | None = None
    starters: list[Starter] = field(default_factory=list)
    guarded: str = ""
    units: list[tuple[Scope, Unit]] = field(default_factory=list)
    needed_by: set[str] = field(default_factory=set)


def programs(root: str, people: Sequence[tuple[str, str]]) -> list[Program]:
    """Everything that starts a program below a root, by program.

    `people` are names with their homes, as on the machine. A bad file costs only itself.
    """
    return _Gathering(root, people).programs()


class _Gathering:
    """All starters of a machine, brought together by what they start."""

    def __init__(self, root: str, people: Sequence[tuple[str, str]]) -> None:
        self._root = root
        self._owners = Owners(root)
        scopes: tuple[Scope, ...] = ("system", "user")
        self._units = {scope: Units(root, scope) for scope in scopes}
        self._listed = {scope: list(units) for scope, units in self._units.items()}
        self._entries = [
            (person, entry)
            for person, home in people
            for entry in sign_in.entries(os.path.join(root, home.lstrip("/")), root)
        ]
        paths = {
            path
            for units in self._listed.values()
            for unit in units
            for path in (f"/{unit.path}", unit.program)
        }
        for _, entry in self._entries:
            paths |= {_place_of(entry), sign_in.find(root, entry.program)}
        self._owned = self._owners.of(path for path in paths if path.startswith("/"))
        self._gathered: dict[str, _Gathered] = {}

    def programs(self) -> list[Program]:
        for scope in self._units:
            self._gather_units(scope)
        for person, entry in self._entries:
            self._gather_entry(person, entry)
        for gathered in self._gathered.values():
            if gathered.package is not None:
                gathered.guarded = gathered.guarded or self._owners.why_guarded(gathered.package)
            elif not gathered.path:
                gathered.guarded = gathered.guarded or "what it runs cannot be told"
        self._follow_needs()
        return [
            _made(key, gathered, self._root) for key, gathered in sorted(self._gathered.items())
        ]

    def _program_of(self, at: str, runs: str, command: str) -> _Gathered:
        """The program that a file of the machine starts: its package's, else what it runs.

        It is the package's only where the package brought that very file: whoever writes a file of
        their own can name any package's program in it, with whatever they want it to do.
        """
        package = self._owned.get(at)
        key = f"package:{package.name}" if package else f"path:{command or at}"
        gathered = self._gathered.setdefault(_shown(key), _Gathered())
        gathered.package = package
        gathered.path = gathered.path or runs
        gathered.command = command
        gathered.name = gathered.name or (package.name if package else os.path.basename(runs or at))
        return gathered

    def _gather_units(self, scope: Scope) -> None:
        units, listed = self._units[scope], self._listed[scope]
        names = _bus_names(self._root, scope)
        by_name = {unit.name: unit for unit in listed}
        for unit in listed:
            if not unit.path:
                continue  # only a link to what is not there any more
            is_service = unit.suffix == ".service"
            can_start = unit.pulled_in or unit.is_barred or unit.words("Install", "WantedBy")
            if is_service and not can_start and unit.name not in names:
                continue  # only what others need
            started = unit if is_service else by_name.get(unit.starts)
            runs = started or unit
            command = runs.says_once("Service", "ExecStart")
            gathered = self._program_of(f"/{unit.path}", runs.program, command)
            gathered.what = gathered.what or unit.says_once("Unit", "Description")
            gathered.guarded = (
                gathered.guarded or why_unit(unit) or (why_unit(started) if started else "")
            )
            gathered.units.append((scope, unit))
            gathered.starters.append(_unit_starter(units, unit))
            # switched with the service that is started for it, and by nothing of its own
            gathered.starters += [
                Starter(
                    key=f"bus:{scope}:{name}"[:500],
                    kind=StarterKind.MESSAGE,
                    when=name[:500],
                    on=not unit.is_barred,
                    settable=is_service,
                )
                for name in names.get(unit.name, ())
            ]

    def _gather_entry(self, person: str, entry: Entry) -> None:
        runs = sign_in.find(self._root, entry.program)
        gathered = self._program_of(_place_of(entry), runs, entry.says_once("Exec"))
        gathered.name = entry.says_once("Name") or gathered.name
        gathered.what = gathered.what or entry.says_once("Comment")
        gathered.guarded = gathered.guarded or why_entry(entry)
        gathered.starters.append(
            Starter(
                key=f"sign-in:{person}:{entry.name}"[:500],
                kind=StarterKind.SIGN_IN,
                on=entry.would_start(self._root),
                of=person,
            )
        )

    def _follow_needs(self) -> None:
        """What something that is on needs is needed by it; what something guarded needs is
        guarded, and so on."""
        owner = {
            (scope, unit.name): gathered
            for gathered in self._gathered.values()
            for scope, unit in gathered.units
        }
        waiting = list(self._gathered.values())
        while waiting:
            gathered = waiting.pop()
            for scope, unit in gathered.units:
                for name in unit.needs:
                    other = owner.get((scope, name))
                    if other is None or other is gathered:
                        continue
                    if unit.is_on:
                        other.needed_by.add(gathered.name)
                    if gathered.guarded and not other.guarded:
                        other.guarded = f"{gathered.name}, which is guarded, needs it"
                        waiting.append(other)


def _place_of(entry: Entry) -> str:
    """Where the system keeps an entry; empty where it is a person's own, and also where theirs
    runs something else than the system's of that name."""
    return f"/{sign_in.SYSTEM}/{entry.name}" if entry.is_the_systems else ""


def _unit_starter(units: Units, unit: Unit) -> Starter:
    own = units.links_of(unit)
    by_others = [path for path in unit.pulled_in if path not in own]
    settable = not by_others and bool(own or units.links_wanted(unit))
    at_bar = units.bar_path(unit.name)
    return Starter(
        key=f"unit:{units.scope}:{unit.name}",
        kind=_KINDS[unit.suffix],
        on=unit.is_on,
        when=unit.when,
        settable=settable,
        barred=unit.is_barred,
        # an administrator's own file of that name is not replaced
        can_bar=unit.suffix == ".service" and (unit.path != at_bar or unit.is_barred),
    )


def _bus_names(root: str, scope: Scope) -> dict[str, list[str]]:
    """Names on the message bus by the unit that the system starts for them."""
    names: dict[str, list[str]] = {}
    for folder in _BUS[scope]:
        on_disk = os.path.join(root, folder)
        try:
            files = sorted(os.listdir(on_disk))
        except OSError:
            continue
        for file in files:
            if not file.endswith(".service"):
                continue
            says = keyfile.parse(keyfile.read_text(os.path.join(on_disk, file)) or "")
            name = keyfile.last(says, "D-BUS Service", "Name")
            unit = keyfile.last(says, "D-BUS Service", "SystemdService")
            if name and unit:
                names.setdefault(unit, []).append(name)
    return names


def _made(key: str, gathered: _Gathered, root: str) -> Program:
    return Program(
        key=key[:500],
        name=_shown(gathered.name)[:500] or key[:500],
        package=gathered.package.name[:200] if gathered.package else "",
        path=gathered.path[:500],
        digest="" if gathered.package else _digest(root, gathered.path, gathered.command),
        what=_shown(gathered.what or (gathered.package.what if gathered.package else ""))[:500],
        starters=tuple(gathered.starters[:200]),
        guarded=gathered.guarded[:500],
        needed_by=tuple(sorted(gathered.needed_by)[:50]),
    )


def _shown(text: str) -> str:
    """Text of somebody's file, without what would move a cursor."""
    return "".join(char if char.isprintable() else " " for char in text).strip()


def _digest(root: str, path: str, command: str) -> str:
    """SHA-256 of a program's file followed by how it is called, as the same interpreter does many
    things; read without renewing when it was last used, where that is allowed. Empty where it
    cannot be read."""
    if not path.startswith("/"):
        return ""
    flags = os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC
    on_disk = os.path.join(root, path[1:])
    for more in (getattr(os, "O_NOATIME", 0), 0):
        try:
            handle = os.open(on_disk, flags | more)
        except PermissionError:
            continue
        except OSError:
            return ""
        st = os.fstat(handle)
        if not stat.S_ISREG(st.st_mode) or st.st_size > LARGEST_DIGESTED:
            os.close(handle)
            return ""
        with open(handle, "rb") as file:
            digest = hashlib.file_digest(file, "sha256")
        digest.update(command.encode("utf-8", "surrogateescape"))
        return digest.hexdigest()
    return ""
