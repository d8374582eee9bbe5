"""Switching what starts a program on Windows, as pieces: marks of entries, starts of services."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from phylax.agent.machines.windows import registry
from phylax.agent.machines.windows.startup import marks, programs, services
from phylax.core.tuning.pieces import Piece, StoredText
from phylax.core.tuning.programs import Switch

assert sys.platform == "win32"


def pieces_of(
    plan: Sequence[Switch], common_folder: str | None, people: Sequence[registry.Person]
) -> tuple[Piece, ...]:
    """What a plan alters. Its starters are read anew; OSError where one cannot be."""
    listed = {entry.key[:500]: entry for entry in programs.entries(common_folder, people)}
    made: list[Piece] = []
    for switch in plan:
        kind, _, name = switch.starter.key.partition(":")
        if kind == "service":
            made.append(_of_service(name, switch))
        elif entry := listed.get(switch.starter.key):
            made += marks.pieces(entry.mark, entry.of, on=switch.on)
    # a key that several marks need is made once
    unique = {piece.place: piece for piece in reversed(made)}
    return tuple(p for p in reversed(unique.values()) if p.before != p.after)


def _of_service(name: str, switch: Switch) -> Piece:
    before = services.ServiceStarts().read(name)
    start = (
        services.AUTOMATIC
        if switch.on
        else services.DISABLED
        if switch.barred
        else services.ON_DEMAND
    )
    return Piece(path=name, port=services.PORT, before=before, after=StoredText(text=str(start)))
