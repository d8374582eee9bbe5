"""A unit, as one of the things that start a program."""

from __future__ import annotations

from phylax.agent.machines.linux.startup.units import Unit, Units
from phylax.core.tuning.programs import Starter, StarterKind

_KINDS = {
    ".service": StarterKind.START,
    ".timer": StarterKind.TIMER,
    ".socket": StarterKind.SOCKET,
    ".path": StarterKind.PATH,
}


def unit_starter(units: Units, unit: Unit) -> Starter:
    """What a unit starts, and whether it can be switched here."""
    own = units.links_of(unit)
    by_others = [path for path in unit.pulled_in if path not in own]
    settable = not by_others and bool(own or units.links_wanted(unit))
    at_bar = units.bar_path(unit.name)
    return Starter(
        key=f"unit:{units.scope}:{unit.name}"[:500],
        kind=_KINDS[unit.suffix],
        on=unit.is_on,
        when=unit.when,
        settable=settable,
        barred=unit.is_barred,
        # an administrator's own file of that name is not replaced
        can_bar=unit.suffix == ".service" and (unit.path != at_bar or unit.is_barred),
    )
