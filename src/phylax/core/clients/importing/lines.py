"""What a line of a list says of a client and of a machine."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from phylax.core.clients.importing import cells
from phylax.core.clients.importing.cells import CellError, ReadCell
from phylax.core.clients.importing.reading import SheetRow
from phylax.core.clients.importing.request import ListField, NamedColumn
from phylax.core.ground.machines import System

_F = ListField
OF_CLIENT: dict[ListField, str] = {
    _F.CLIENT: "name", _F.CONTACT: "contact", _F.MAIL: "mail", _F.PHONE: "phone",
    _F.CONTACT_BY: "contact_by", _F.HOURS: "hours", _F.AGREEMENTS: "agreements",
    _F.CLIENT_NOTE: "note",
}  # fmt: skip
"""Fields of clients, as the shop names them."""
OF_MACHINE: dict[ListField, str] = {
    _F.TAG: "tag", _F.SYSTEM: "system", _F.SYSTEM_VERSION: "system_version", _F.MAKE: "make",
    _F.MODEL: "model", _F.SERIAL: "serial", _F.YEAR: "year", _F.MEMORY: "memory",
    _F.PROCESSOR: "processor", _F.USED_FOR: "used_for", _F.USED_BY: "used_by",
    _F.LOCATION: "location", _F.NOTE: "note",
}  # fmt: skip
NUMBERS = (_F.NUMBER, _F.CLIENT_NUMBER)
_LONG = frozenset({_F.NOTE, _F.CLIENT_NOTE, _F.AGREEMENTS})
_READ: dict[ListField, Callable[[str], ReadCell]] = {
    _F.TAG: cells.tag, _F.SERIAL: cells.serial, _F.YEAR: cells.year, _F.MEMORY: cells.memory,
    _F.CONTACT_BY: cells.reach_by,
}  # fmt: skip


class Line(NamedTuple):
    """A line that can be read."""

    line: int
    said: dict[ListField, str]
    """What is empty is left out."""
    says: tuple[str, ...]

    def of(self, field: ListField) -> str:
        return self.said.get(field, "")

    @property
    def is_of_machine(self) -> bool:
        return any(field in OF_MACHINE or field is _F.NUMBER for field in self.said)


def line_of(row: SheetRow, columns: Sequence[NamedColumn]) -> Line:
    """CellError where a cell costs the line."""
    said: dict[ListField, str] = {}
    says: list[str] = []
    for named in columns:
        if named.field is None:
            continue
        try:
            text = cells.cleaned(row.cells[named.column - 1])
        except CellError as error:
            raise CellError(f"{shown(named.field)} {error}") from error
        read = _READ.get(named.field, cells.word)
        cell = ReadCell(text) if named.field in _LONG else read(text)
        if cell.text:
            said[named.field] = cell.text
        if cell.says:
            says.append(f"{shown(named.field)}: {cell.says}")
    _take_system(said, says)
    return Line(row.line, said, tuple(says))


def _take_system(said: dict[ListField, str], says: list[str]) -> None:
    """What people write for a system is often its version."""
    written = said.pop(_F.SYSTEM, "")
    kind = cells.system(written) or cells.system(said.get(_F.SYSTEM_VERSION, ""))
    if kind is not None:
        said[_F.SYSTEM] = kind.value
    elif written:
        says.append(f"system: “{written[:40]}” is none that the shop looks after")
    if written and written.casefold() not in (*System, "win", "mac", "macos", "os x"):
        said.setdefault(_F.SYSTEM_VERSION, written)


def shown(field: ListField) -> str:
    return field.value.replace("_", " ")
