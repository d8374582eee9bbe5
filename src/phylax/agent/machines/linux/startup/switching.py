"""Switching what starts a program, as pieces: the links and files themselves.

A unit is switched by its links below `etc`, never by presets; an entry of a person by a file in
their own folder. What a program's starters are is read anew here: an order names a program and an
intent, nothing else.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import PurePosixPath

from phylax.agent.machines.linux.startup import sign_in
from phylax.agent.machines.linux.startup.units import PersonsUnits, Scope, Unit, Units
from phylax.agent.tuning.pieces import is_like, read
from phylax.core.tuning.pieces import NOTHING, File, Folder, Link, Piece, State
from phylax.core.tuning.programs import Switch

_NOWHERE = Link(target="/dev/null")


def pieces_of_units(root: str, plan: Iterable[Switch]) -> tuple[Piece, ...]:
    """What a plan alters of units, below the root. OSError where something odd lies there."""
    wanted: dict[str, State] = {}
    for switch in plan:
        kind, _, rest = switch.starter.key.partition(":")
        scope, _, name = rest.partition(":")
        # a name on the bus is switched with the unit that is started for it
        if kind == "unit" and scope in ("system", "user") and not switch.starter.person:
            of_system: Scope = "system" if scope == "system" else "user"
            units = Units(root, of_system)
            wanted |= _of_unit(units, units.unit(name), switch)
    return _pieces(root, wanted)


def _of_unit(units: Units, unit: Unit, switch: Switch) -> dict[str, State]:
    at_bar = units.bar_path(unit.name)
    wanted: dict[str, State] = {}
    if unit.is_barred and not switch.barred:
        wanted[at_bar] = NOTHING
    if switch.on:
        if not unit.pulled_in:
            wanted |= {path: Link(target=target) for path, target in units.links_wanted(unit)}
        return wanted
    wanted |= dict.fromkeys(units.links_of(unit), NOTHING)
    if switch.barred:
        wanted[at_bar] = _NOWHERE
    return wanted


def pieces_of_person(
    home: str, plan: Iterable[Switch], person: str, root: str = "/"
) -> tuple[Piece, ...]:
    """What a plan alters of a person's own entries and units, below their home. To be called
    with their rights only."""
    entries: Mapping[str, sign_in.Entry] = {e.name: e for e in sign_in.entries(home, root)}
    units = PersonsUnits(home, person, root)
    wanted: dict[str, State] = {}
    for switch in plan:
        if switch.starter.person != person:
            continue
        kind, _, rest = switch.starter.key.partition(":")
        entry = entries.get(rest.removeprefix(f"{person}:"))
        if kind == "unit" and rest.startswith(f"user:{person}:"):
            unit = units.unit(rest.removeprefix(f"user:{person}:"))
            wanted |= _of_unit(units, unit, switch)
        elif kind == "sign-in" and entry is not None:
            change = sign_in.switched_on if switch.on else sign_in.switched_off
            path = f"{sign_in.PERSON}/{entry.name}"
            before = read(home, path)
            mode = before.mode if isinstance(before, File) else 0o644
            wanted[path] = File.of(change(entry.text).encode("utf-8"), mode)
    return _pieces(home, wanted, person)


def _pieces(top: str, wanted: Mapping[str, State], of: str = "") -> tuple[Piece, ...]:
    """Only what is not so already; folders that are missing come first."""
    pieces: list[Piece] = []
    made: set[str] = set()
    for path, after in wanted.items():
        before = read(top, path)
        if is_like(before, after):
            continue
        if after != NOTHING:
            for folder in [*reversed(PurePosixPath(path).parents)][1:]:
                if str(folder) not in made and not os.path.lexists(os.path.join(top, folder)):
                    made.add(str(folder))
                    pieces.append(Piece(path=str(folder), of=of, before=NOTHING, after=Folder()))
        if isinstance(before, File) and isinstance(after, File):
            after = after.model_copy(update={"uid": before.uid, "gid": before.gid})
        pieces.append(Piece(path=path, of=of, before=before, after=after))
    return tuple(pieces)
