"""What starts programs for one person: the entries and units of their own folders.

To be read with that person's rights. What it says is theirs to say: whoever has more rights takes
it for nothing but what starts in that person's session.
"""

from __future__ import annotations

import os
from collections.abc import Iterator

from pydantic import Field

from phylax.agent.machines.linux.startup import sign_in
from phylax.agent.machines.linux.startup.guarding import why_entry, why_unit
from phylax.agent.machines.linux.startup.sign_in import Entry
from phylax.agent.machines.linux.startup.starter import unit_starter
from phylax.agent.machines.linux.startup.units import PersonsUnits, Unit
from phylax.agent.tuning.digests import Digests
from phylax.core.ground.text import Text
from phylax.core.ground.values import Demand
from phylax.core.tuning.programs import Starter, StarterKind

MOST = 200
"""So many of one person's are listed."""
ENTRY, UNIT = "entry:", "unit:"


class OfPerson(Demand):
    """Something that starts a program for a person, as their own files say."""

    starter: Starter
    stands_for: Text = Field(
        "", description="What of the system's it switches, as in entry:NAME or unit:NAME"
    )
    runs: Text = ""
    command: Text = ""
    name: Text = ""
    what: Text = ""
    guarded: Text = ""
    digest: str = Field("", pattern=r"^([0-9a-f]{64})?$")


def starters_of(person: str, home: str, root: str = "/") -> list[OfPerson]:
    """Everything that starts something for a person; a bad file costs only itself."""
    digests = Digests(root)
    starters = [*_of_entries(person, home, root, digests), *_of_units(person, home, root, digests)]
    return starters[:MOST]


def _of_entries(person: str, home: str, root: str, digests: Digests) -> Iterator[OfPerson]:
    for entry in sign_in.entries(home, root):
        starter = Starter(
            key=f"sign-in:{person}:{entry.name}"[:500],
            kind=StarterKind.SIGN_IN,
            on=entry.would_start(root),
            person=person,
        )
        if entry.is_the_systems:
            yield OfPerson(starter=starter, stands_for=f"{ENTRY}{entry.name}"[:500])
        else:
            yield _own_entry(entry, starter, root, digests)


def _own_entry(entry: Entry, starter: Starter, root: str, digests: Digests) -> OfPerson:
    runs, command = sign_in.find(root, entry.program), entry.says_once("Exec")
    return OfPerson(
        starter=starter,
        runs=runs[:500],
        command=command[:500],
        name=entry.says_once("Name")[:500],
        what=entry.says_once("Comment")[:500],
        guarded=why_entry(entry)[:500],
        digest=digests.of(runs, command),
    )


def _of_units(person: str, home: str, root: str, digests: Digests) -> Iterator[OfPerson]:
    units = PersonsUnits(home, person, root)
    listed = {unit.name: unit for unit in units}
    for unit in listed.values():
        if not unit.path:
            continue
        is_own = units.is_own(unit.name)
        is_service = unit.suffix == ".service"
        if is_own and is_service and not (unit.pulled_in or unit.words("Install", "WantedBy")):
            continue  # only what others need
        starter = unit_starter(units, unit).model_copy(update={"person": person})
        if not is_own:
            yield OfPerson(starter=starter, stands_for=f"{UNIT}{unit.name}"[:500])
            continue
        started = unit if is_service else listed.get(unit.starts)
        yield _own_unit(units, unit, started, starter, digests)


def _own_unit(
    units: PersonsUnits, unit: Unit, started: Unit | None, starter: Starter, digests: Digests
) -> OfPerson:
    runs = started or unit
    command = runs.says_once("Service", "ExecStart")
    guarded = why_unit(unit) or (why_unit(started) if started else "")
    if units.is_the_systems(unit.name):
        guarded = guarded or f"it stands in for the system's {unit.name}"
    return OfPerson(
        starter=starter,
        runs=runs.program[:500],
        command=command[:500],
        name=os.path.basename(runs.program or unit.name)[:500],
        what=unit.says_once("Unit", "Description")[:500],
        guarded=guarded[:500],
        digest=digests.of(runs.program, command),
    )
