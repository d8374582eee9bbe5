"""One list of startup programs: each program with everything that starts it."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from phylax.agent.machines.linux.startup import ini_files, sign_in
from phylax.agent.machines.linux.startup.guarding import why_entry, why_unit
from phylax.agent.machines.linux.startup.of_person import ENTRY, UNIT, OfPerson
from phylax.agent.machines.linux.startup.owners import Owners, Package
from phylax.agent.machines.linux.startup.sign_in import Entry
from phylax.agent.machines.linux.startup.starter import unit_starter
from phylax.agent.machines.linux.startup.units import Scope, Unit, Units
from phylax.agent.tuning.digests import Digests
from phylax.core.tuning.programs import Program, Starter, StarterKind

_BUS = {
    "system": ("usr/local/share/dbus-1/system-services", "usr/share/dbus-1/system-services"),
    "user": ("usr/local/share/dbus-1/services", "usr/share/dbus-1/services"),
}


@dataclass
class _Gathered:
    """A program while its starters are gathered."""

    name: str = ""
    what: str = ""
    path: str = ""
    command: str = ""
    digest: str = ""
    package: Package | None = None
    starters: list[Starter] = field(default_factory=list)
    guarded: str = ""
    units: list[tuple[Scope, Unit]] = field(default_factory=list)
    needed_by: set[str] = field(default_factory=set)


def programs(root: str, people: Sequence[OfPerson] = ()) -> list[Program]:
    """Everything that starts a program below a root, by program.

    `people` is what starts programs for people, each read with that person's rights. A bad file
    costs only itself.
    """
    return _Gathering(root, people).programs()


class _Gathering:
    """All starters of a machine, brought together by what they start."""

    def __init__(self, root: str, people: Sequence[OfPerson]) -> None:
        self._root = root
        self._people = people
        self._owners = Owners(root)
        self._digests = Digests(root)
        scopes: tuple[Scope, ...] = ("system", "user")
        self._units = {scope: Units(root, scope) for scope in scopes}
        self._listed = {scope: list(units) for scope, units in self._units.items()}
        self._entries = {entry.name: entry for entry in sign_in.entries("", root)}
        paths = {
            path
            for units in self._listed.values()
            for unit in units
            for path in (f"/{unit.path}", unit.program)
        }
        paths |= {_place_of(name) for name in self._entries}
        self._owned = self._owners.of(path for path in paths if path.startswith("/"))
        self._gathered: dict[str, _Gathered] = {}

    def programs(self) -> list[Program]:
        for scope in self._units:
            self._gather_units(scope)
        of_unit = {
            unit.name: gathered
            for gathered in self._gathered.values()
            for scope, unit in gathered.units
            if scope == "user"
        }
        for of_person in self._people:
            self._gather_of_person(of_person, of_unit)
        for gathered in self._gathered.values():
            if gathered.package is not None:
                gathered.guarded = gathered.guarded or self._owners.why_guarded(gathered.package)
            elif not gathered.path:
                gathered.guarded = gathered.guarded or "what it runs cannot be told"
        self._follow_needs()
        return [self._made(key, gathered) for key, gathered in sorted(self._gathered.items())]

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
            gathered.starters.append(unit_starter(units, unit))
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

    def _gather_of_person(self, of_person: OfPerson, of_unit: Mapping[str, _Gathered]) -> None:
        """Something of a person's. What of the system's it switches is known here; what it says
        of that beyond whether it is on is nobody's business but theirs."""
        starter, stands_for = of_person.starter, of_person.stands_for
        gathered: _Gathered | None
        if stands_for.startswith(UNIT):
            gathered = of_unit.get(stands_for.removeprefix(UNIT))
        elif stands_for:
            gathered = self._of_entry(self._entries.get(stands_for.removeprefix(ENTRY)))
        else:
            gathered = self._own_of_person(of_person)
        if gathered is not None:
            gathered.starters.append(starter)

    def _of_entry(self, entry: Entry | None) -> _Gathered | None:
        """The program that an entry of the system's starts."""
        if entry is None:
            return None
        runs = sign_in.find(self._root, entry.program)
        gathered = self._program_of(_place_of(entry.name), runs, entry.says_once("Exec"))
        gathered.name = entry.says_once("Name") or gathered.name
        gathered.what = gathered.what or entry.says_once("Comment")
        gathered.guarded = gathered.guarded or why_entry(entry)
        return gathered

    def _own_of_person(self, of_person: OfPerson) -> _Gathered:
        """A program of one person alone: what two of them say is never taken for the same."""
        command = of_person.command or of_person.starter.key
        gathered = self._gathered.setdefault(
            f"person:{of_person.starter.person}:{_shown(command)}", _Gathered()
        )
        gathered.path = gathered.path or of_person.runs
        gathered.command = of_person.command
        gathered.digest = gathered.digest or of_person.digest
        gathered.name = gathered.name or of_person.name or os.path.basename(of_person.runs)
        gathered.what = gathered.what or of_person.what
        gathered.guarded = gathered.guarded or of_person.guarded
        return gathered

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

    def _made(self, key: str, gathered: _Gathered) -> Program:
        package = gathered.package
        digest = gathered.digest
        if not package and not digest and not key.startswith("person:"):
            digest = self._digests.of(gathered.path, gathered.command)
        return Program(
            key=key[:500],
            name=_shown(gathered.name)[:500] or key[:500],
            package=package.name[:200] if package else "",
            path=gathered.path[:500],
            digest=digest,
            description=_shown(gathered.what or (package.what if package else ""))[:500],
            starters=tuple(gathered.starters[:200]),
            guarded=gathered.guarded[:500],
            needed_by=tuple(sorted(gathered.needed_by)[:50]),
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
            says = ini_files.parse(ini_files.read_text(os.path.join(on_disk, file)) or "")
            name = ini_files.last(says, "D-BUS Service", "Name")
            unit = ini_files.last(says, "D-BUS Service", "SystemdService")
            if name and unit:
                names.setdefault(unit, []).append(name)
    return names


def _place_of(name: str) -> str:
    """Where the system keeps an entry."""
    return f"/{sign_in.SYSTEM}/{name}"


def _shown(text: str) -> str:
    """Text of somebody's file, without what would move a cursor."""
    return "".join(char if char.isprintable() else " " for char in text).strip()
