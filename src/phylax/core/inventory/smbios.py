"""Memory slots from the tables that a machine's firmware hands over (SMBIOS, DMTF DSP0134)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from phylax.core.inventory.hardware import MOST_SLOTS, MemorySlot

_KIB, _MIB = 2**10, 2**20
_KINDS = {0x18: "DDR3", 0x1A: "DDR4", 0x1E: "LPDDR4", 0x22: "DDR5", 0x23: "LPDDR5", 0x13: "DDR2"}
_SYSTEM, _PROCESSOR, _ARRAY, _DEVICE, _END = 1, 4, 16, 17, 127
_MOST_TABLES = 10_000


class Memory(NamedTuple):
    """What the firmware says of memory."""

    most: int | None
    """Bytes that fit; None: it does not say."""
    slots: tuple[MemorySlot, ...]


class Identity(NamedTuple):
    """What the firmware says of the machine as a whole; empty: it does not."""

    serial: str
    processor: str


class _Table(NamedTuple):
    kind: int
    data: bytes
    strings: tuple[str, ...]

    def text(self, offset: int) -> str:
        number = self.data[offset] if offset < len(self.data) else 0
        text = self.strings[number - 1] if 0 < number <= len(self.strings) else ""
        return "".join(c for c in text if c.isprintable()).strip()[:100]

    def whole(self, offset: int, size: int) -> int | None:
        part = self.data[offset : offset + size]
        return int.from_bytes(part, "little") if len(part) == size else None


def memory(tables: bytes) -> Memory:
    """From the structures alone, without the entry point. What makes no sense is left out."""
    most, slots = 0, list[MemorySlot]()
    for table in _tables(tables):
        if table.kind == _ARRAY:
            most += _most(table)
        elif table.kind == _DEVICE and len(slots) < MOST_SLOTS:
            slots.append(_slot(table))
    return Memory(most if 0 < most < 2**50 else None, tuple(slots))


def identity(tables: bytes) -> Identity:
    """Serial number and first processor, from the structures alone."""
    serial = processor = ""
    for table in _tables(tables):
        if table.kind == _SYSTEM and not serial:
            serial = table.text(7)
        elif table.kind == _PROCESSOR and not processor:
            processor = " ".join(table.text(16).split())
    return Identity(serial, processor)


def _tables(data: bytes) -> Iterator[_Table]:
    at = 0
    for _ in range(_MOST_TABLES):
        if at + 4 > len(data):
            return
        kind, length = data[at], data[at + 1]
        if length < 4 or kind == _END:
            return
        end = data.find(b"\0\0", at + length)
        if end < 0:
            return
        strings = data[at + length : end].split(b"\0")
        texts = tuple(text.decode("latin-1") for text in strings if text)
        yield _Table(kind, data[at : at + length], texts)
        at = end + 2


def _most(table: _Table) -> int:
    if table.whole(0x04, 1) not in (None, 3) and table.whole(0x05, 1) != 3:
        return 0
    kib = table.whole(0x07, 4)
    if kib == 0x8000_0000:
        return table.whole(0x0F, 8) or 0
    return (kib or 0) * _KIB


def _slot(table: _Table) -> MemorySlot:
    size = table.whole(0x0C, 2)
    held: int | None
    if size in (None, 0, 0xFFFF):
        held = None
    elif size == 0x7FFF:
        held = ((table.whole(0x1C, 4) or 0) & 0x7FFF_FFFF) * _MIB
    else:
        assert size is not None
        held = (size & 0x7FFF) * (_KIB if size & 0x8000 else _MIB)
    return MemorySlot(
        place=table.text(0x10) or table.text(0x11) or "a slot",
        size=held,
        kind=_KINDS.get(table.whole(0x12, 1) or 0, "") if held else "",
        maker=table.text(0x17) if held else "",
        model=table.text(0x1A) if held else "",
    )
