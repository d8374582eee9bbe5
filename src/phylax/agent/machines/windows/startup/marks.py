"""Start-up marks: whether an entry of a Run key or start-up folder starts, as the system's own
pages note it beside the entry (observed, not documented)."""

from __future__ import annotations

import struct
import sys
import time

from phylax.agent.machines.windows import keys
from phylax.core.tuning.pieces import NOTHING, Folder, Piece, StoredText

assert sys.platform == "win32"

MARKS = r"Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved"
_REG_BINARY = 3
_EPOCH = 11_644_473_600
"""Seconds from the first of January 1601 to that of 1970."""


def is_on(place: keys.Place) -> bool:
    """Whether the entry that a mark is about starts."""
    value = keys.values_of(place.hive, place.key).get(place.name or "")
    return not (isinstance(value, bytes) and value and value[0] & 1)


def pieces(place: keys.Place, of: str, *, on: bool) -> list[Piece]:
    """What becomes of a mark; keys that are missing come first."""
    before = keys.read(place)
    mark = struct.pack("<IQ", 2, 0) if on else struct.pack("<IQ", 3, _now())
    made = [
        Piece(path=key.path, of=of, port=keys.PORT, before=NOTHING, after=Folder())
        for key in (place.above.above, place.above)
        if keys.read(key) == NOTHING
    ]
    after = StoredText(text=keys.packed(mark, _REG_BINARY))
    return [*made, Piece(path=place.path, of=of, port=keys.PORT, before=before, after=after)]


def _now() -> int:
    return int((time.time() + _EPOCH) * 10**7)
