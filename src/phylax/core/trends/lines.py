"""Which stretch of readings belongs to one and the same volume.

A volume that was resized or replaced begins a new line; the old one stays. Readings may come late
and in any order.
"""

from __future__ import annotations

from typing import NamedTuple

from phylax.core.ground.quantities import show_size

_SAME = 0.01
"""Capacities this close are one volume: some file systems' capacity wavers."""


class Line(NamedTuple):
    """From when (epoch seconds) a volume has this capacity and file system identity."""

    began_at: int
    capacity: int
    identity: str
    why: str = ""

    def fits(self, capacity: int, identity: str) -> bool:
        known = bool(identity and self.identity)
        return (not known or identity == self.identity) and (
            abs(capacity - self.capacity) <= _SAME * self.capacity
        )


def with_reading(lines: list[Line], at: int, capacity: int, identity: str) -> list[Line]:
    """The lines, in order, after a reading came in; the same list where nothing changes."""
    here = max((n for n, line in enumerate(lines) if line.began_at <= at), default=-1)
    current = lines[here] if here >= 0 else None
    if current is not None and current.fits(capacity, identity):
        if identity and not current.identity:
            return [*lines[:here], current._replace(identity=identity), *lines[here + 1 :]]
        return lines
    following = lines[here + 1] if here + 1 < len(lines) else None
    if following is not None and following.fits(capacity, identity):
        # it began earlier than was known
        return [*lines[: here + 1], following._replace(began_at=at), *lines[here + 2 :]]
    if current is not None and current.began_at == at:
        return lines
    new = Line(at, capacity, identity, difference(current, capacity, identity) if current else "")
    later = lines[here + 1 :]
    if following is not None:
        why = difference(new, following.capacity, following.identity)
        later = [following._replace(why=why), *later[1:]]
    return [*lines[: here + 1], new, *later]


def difference(before: Line, capacity: int, identity: str) -> str:
    """What is different from the line before, in words."""
    words = []
    if identity and before.identity and identity != before.identity:
        words.append("another file system")
    if not before.fits(capacity, ""):
        words.append(f"{show_size(capacity)} instead of {show_size(before.capacity)}")
    return ", ".join(words)
