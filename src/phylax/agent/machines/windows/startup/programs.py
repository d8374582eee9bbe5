"""One list of startup programs on a Windows machine, by program."""

from __future__ import annotations

import ntpath
import os
import sys
import winreg
from collections.abc import Iterator, Sequence, Set
from dataclasses import dataclass, field
from typing import NamedTuple

from phylax.agent.machines.windows import keys, registry
from phylax.agent.machines.windows.startup import makers, marks, services, shortcuts
from phylax.agent.tuning.digests import Digests
from phylax.core.tuning.programs import Program, Starter, StarterKind

assert sys.platform == "win32"

RUN = r"Software\Microsoft\Windows\CurrentVersion\Run"
_MOST = 500
"""Entries of one key or folder that are looked at."""


class Entry(NamedTuple):
    """Something that starts a program when somebody signs in."""

    key: str
    of: str
    name: str
    command: str
    mark: keys.Place


@dataclass
class _Gathered:
    name: str
    path: str
    what: str = ""
    command: str = ""
    starters: list[Starter] = field(default_factory=list)
    guarded: str = ""
    needed_by: set[str] = field(default_factory=set)


def entries(common_folder: str | None, people: Sequence[registry.Person]) -> Iterator[Entry]:
    """Entries of Run keys and start-up folders: the machine's, and of who is signed in."""
    for view, kind in (("64", "Run"), ("32", "Run32")):
        for name, command in _run(keys.Place("HKLM", RUN, view=view)):
            yield Entry(f"run:{view}:{name}", "", name, command, _mark("HKLM", "", kind, name))
    yield from _of_folder(common_folder, "", "HKLM", "")
    for person in people:
        if not is_signed_in(person):
            continue
        for name, command in _run(keys.Place("HKU", rf"{person.sid}\{RUN}")):
            mark = _mark("HKU", f"{person.sid}\\", "Run", name)
            command = registry.expanded(command, person.home)
            yield Entry(f"run:{person.name}:{name}", person.name, name, command, mark)
        usual = r"AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup"
        folder = person.folders.get("Startup", ntpath.join(person.home, usual))
        yield from _of_folder(folder, person.name, "HKU", f"{person.sid}\\")


def is_signed_in(person: registry.Person) -> bool:
    """Whether what is theirs of the registry is loaded."""
    return bool(keys.keys_below("HKU", person.sid))


def _not_read(person: registry.Person) -> Program:
    return Program(
        key=f"person:{person.name}:"[:500],
        name=f"What starts for {person.name}"[:500],
        unread="is known only while they are signed in",
    )


def _mark(hive: str, before: str, kind: str, name: str) -> keys.Place:
    return keys.Place(hive, rf"{before}{marks.MARKS}\{kind}", name)


def _run(place: keys.Place) -> list[tuple[str, str]]:
    said = keys.values_of(place.hive, place.key, place.view)
    return [(name, value) for name, value in said.items() if isinstance(value, str)][:_MOST]


def _of_folder(folder: str | None, of: str, hive: str, before: str) -> Iterator[Entry]:
    try:
        names = sorted(os.listdir(folder))[:_MOST] if folder else []
    except OSError:
        return
    for name in names:
        path = ntpath.join(str(folder), name)
        if name.lower() == "desktop.ini" or not os.path.isfile(path):
            continue
        command = path
        if name.lower().endswith(".lnk"):
            with open(path, "rb") as file:
                command = shortcuts.target(file.read(shortcuts.LARGEST)) or path
        mark = _mark(hive, before, "StartupFolder", name)
        yield Entry(f"folder:{of}:{name}", of, ntpath.splitext(name)[0], f'"{command}"', mark)


def programs(
    windows: str, common_folder: str | None, people: Sequence[registry.Person]
) -> list[Program]:
    """Everything that starts a program by itself. `windows` is the system's own folder."""
    gathered: dict[str, _Gathered] = {}
    for entry in entries(common_folder, people):
        path = program_of(entry.command)
        key = f"person:{entry.of}:{entry.command}" if entry.of else f"path:{entry.command}"
        program = gathered.setdefault(key[:500], _Gathered(entry.name, path, command=entry.command))
        program.guarded = program.guarded or _why_entry(path, windows)
        program.starters.append(
            Starter(
                key=entry.key[:500],
                kind=StarterKind.SIGN_IN,
                on=marks.is_on(entry.mark),
                person=entry.of,
            )
        )
    _gather_services(gathered, windows)
    digests = Digests()
    made = [_made(key, program, digests) for key, program in sorted(gathered.items())]
    return [*made, *(_not_read(person) for person in people if not is_signed_in(person))]


def _gather_services(gathered: dict[str, _Gathered], windows: str) -> None:
    listed = list(services.all_services())
    driver_makers = _driver_makers(windows)
    by_service: dict[str, _Gathered] = {}
    for service in listed:
        path = program_of(service.command)
        is_the_systems = not path or _is_in(path, windows)
        if is_the_systems and service.start != services.AUTOMATIC:
            continue  # the system's own, which others ask for
        # many services of the system are one program
        key = f"service:{service.name}" if is_the_systems else f"path:{service.command}"
        program = gathered.setdefault(
            key[:500], _Gathered(service.shown, path, service.what, service.command)
        )
        program.guarded = program.guarded or _why_service(service, path, windows, driver_makers)
        program.starters.append(
            Starter(
                key=f"service:{service.name}"[:500],
                kind=StarterKind.START,
                on=service.start == services.AUTOMATIC,
                later=service.later,
                barred=service.start == services.DISABLED,
                can_bar=True,
            )
        )
        by_service[service.name.lower()] = program
    _follow_needs(listed, by_service)


def _driver_makers(windows: str) -> Set[str]:
    """Who has made a driver of this machine, the system itself left out."""
    files = (path for path in services.driver_files(windows) if not _is_in(path, windows))
    return {made_by for path in files if (made_by := makers.maker(path))}


def _follow_needs(listed: Sequence[services.Service], by_service: dict[str, _Gathered]) -> None:
    """What another service needs is needed by it; what something guarded needs is guarded."""
    waiting = list(listed)
    while waiting:
        service = waiting.pop()
        needing = by_service.get(service.name.lower())
        for name in service.needs:
            needed = by_service.get(name.lower())
            if needed is None or needed is needing:
                continue
            if service.start == services.AUTOMATIC:
                needed.needed_by.add(service.shown)
            if needing and needing.guarded and not needed.guarded:
                needed.guarded = f"{service.shown}, which is guarded, needs it"
                waiting += [s for s in listed if by_service.get(s.name.lower()) is needed]


def _why_entry(path: str, windows: str) -> str:
    if not path:
        return "what it starts cannot be told"
    if _is_in(path, windows):
        return "it is part of the system"
    return "it is this agent" if "phylax" in path.lower() else ""


def _why_service(
    service: services.Service, path: str, windows: str, driver_makers: Set[str]
) -> str:
    """Why a service is guarded, by what the system says of it."""
    if service.protected:
        return "the system protects it"
    if service.group:
        return f"it comes in a part of the system's own start: {service.group}"[:500]
    if why := _why_entry(path, windows):
        return why
    made_by = makers.maker(path)
    # screen, sound, input, storage and protection are drivers with a program beside them
    if made_by and made_by in driver_makers:
        return f"a driver of {made_by} is on this machine"[:500]
    return ""


def program_of(command: str) -> str:
    """The file that a command runs; empty where that cannot be told. Without quotes the system
    tries each part up to a space, and so is it done here."""
    command = winreg.ExpandEnvironmentStrings(command).strip()
    if command.startswith('"'):
        path = command[1:].partition('"')[0]
        return path if registry.is_local(path) else ""
    parts = command.split(" ")
    for number in range(1, len(parts) + 1):
        path = " ".join(parts[:number])
        for tried in (path, f"{path}.exe"):
            if registry.is_local(tried) and os.path.isfile(tried):
                return tried
    return parts[0] if registry.is_local(parts[0]) else ""


def _is_in(path: str, folder: str) -> bool:
    """Whether a file lies in a folder; the system knows no case, and may spell it short."""
    path, folder = (ntpath.normcase(os.path.realpath(p)) for p in (path, folder))
    return path.startswith(folder.rstrip("\\") + "\\")


def _made(key: str, gathered: _Gathered, digests: Digests) -> Program:
    return Program(
        key=key,
        name=gathered.name[:500] or key,
        path=gathered.path[:500],
        digest=digests.of(gathered.path, gathered.command),
        description=gathered.what[:500],
        starters=tuple(gathered.starters[:200]),
        guarded=gathered.guarded[:500],
        needed_by=tuple(sorted(gathered.needed_by)[:50]),
    )
