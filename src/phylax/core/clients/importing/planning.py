"""What an import would do, line by line.

A line's machine is known by the number it had in the list, else by its tag, else by its client and
serial number. So the same list taken in again changes nothing. Whatever the lines before it add
counts as known.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from pydantic import ValidationError

from phylax.core.clients.importing.cells import CellError, slug
from phylax.core.clients.importing.lines import OF_CLIENT, OF_MACHINE, Line, line_of, shown
from phylax.core.clients.importing.reading import SheetRow
from phylax.core.clients.importing.request import (
    FieldChange,
    LineResult,
    LineStatus,
    ListField,
    NamedColumn,
)
from phylax.core.clients.shop import ClientEdit, MachineEdit
from phylax.core.ground.machines import System
from phylax.core.record.searching import spelled_out

_F = ListField


@dataclass
class KnownRow:
    """A client or a machine: of the shop, or one that a line adds."""

    said: dict[ListField, str]
    """What is known of it by now."""
    id: int | None = None
    version: int = 0
    retired: bool = False
    client: KnownRow | None = None
    """Whose machine it is."""
    line: int = 0
    """Of the line that adds it."""
    number: str = ""
    """What the list gave it, and the shop did not know."""
    changes: list[FieldChange] = field(default_factory=list)

    @property
    def name(self) -> str:
        return self.said.get(_F.CLIENT, "")

    @property
    def tag(self) -> str:
        return self.said.get(_F.TAG, "")


class Known(NamedTuple):
    """What the shop has."""

    clients: Sequence[KnownRow]
    machines: Sequence[KnownRow]
    client_numbers: dict[str, int]
    """Numbers of the same list from an earlier time, and of which client they are."""
    machine_numbers: dict[str, int]


@dataclass
class Plan:
    """What would be done."""

    lines: list[LineResult] = field(default_factory=list)
    clients: list[KnownRow] = field(default_factory=list)
    """Those that are added, changed, or get a number."""
    machines: list[KnownRow] = field(default_factory=list)
    matched: set[tuple[str, int, int]] = field(default_factory=set)
    """Clients and machines of the shop that lines are of: kind, number, version."""


class _RefusedError(Exception):
    """Why a line cannot be taken in."""


def plan(
    rows: Iterable[SheetRow],
    columns: Sequence[NamedColumn],
    known: Known,
    *,
    system: System | None = None,
    overwrite: bool = False,
) -> Plan:
    """What becomes of each line."""
    planner = _Planner(known, system, overwrite)
    read: list[Line | LineResult] = []
    for row in rows:
        try:
            if row.why:
                raise CellError(row.why)
            read.append(line_of(row, columns))
        except CellError as error:
            read.append(LineResult(line=row.line, status=LineStatus.REFUSED, remarks=(str(error),)))
    planner.taken.update(line.of(_F.TAG) for line in read if isinstance(line, Line))
    for line in read:
        planner.plan.lines.append(line if isinstance(line, LineResult) else planner.decide(line))
    return planner.plan


class _Planner:
    """Decides line after line."""

    def __init__(self, known: Known, system: System | None, overwrite: bool) -> None:
        self.plan = Plan()
        self._system, self._overwrite = system, overwrite
        by_id = {client.id: client for client in known.clients}
        self._clients: dict[str, KnownRow] = {}
        for client in known.clients:
            self._name_client(client)
        self._client_numbers = {n: by_id[i] for n, i in known.client_numbers.items() if i in by_id}
        machines = {machine.id: machine for machine in known.machines}
        self._machine_numbers = {
            n: machines[i] for n, i in known.machine_numbers.items() if i in machines
        }
        self._tags = {machine.tag: machine for machine in known.machines}
        self._serials = {
            _serial_key(machine.client, machine.said[_F.SERIAL]): machine
            for machine in known.machines
            if machine.client and machine.said.get(_F.SERIAL)
        }
        self.taken = set(self._tags)
        self._seen: dict[int, int] = {}
        """Lines by the machines or clients that they are of."""

    def decide(self, line: Line) -> LineResult:
        try:
            return self._decide(line)
        except _RefusedError as error:
            return LineResult(
                line=line.line, status=LineStatus.REFUSED, client=line.of(_F.CLIENT),
                tag=line.of(_F.TAG), remarks=(str(error), *line.says),
            )  # fmt: skip

    def _decide(self, line: Line) -> LineResult:
        machine = self._machine(line)
        client = self._client(line, machine)
        is_new_client = client.id is None and not client.line
        if not line.is_of_machine:
            return self._of_client(line, client, is_new_client)
        machine = machine or self._by_serial(line, client)
        if machine is not None:
            self._check_owner(line, machine, client)
            if (earlier := self._seen.get(id(machine))) is not None:
                return self._double(line, machine, earlier)
        is_added = machine is None
        machine = machine or self._new_machine(line, client)
        says = [*line.says]
        # nothing of the machine counts before its client can be written as well
        draft = KnownRow(dict(machine.said), machine.id)
        changes = [] if is_added else self._merge(line, draft, OF_MACHINE, says)
        _check(draft, MachineEdit, OF_MACHINE)
        of_client = self._take_client(line, client, is_new_client, says)
        machine.said, machine.changes = draft.said, changes
        self._keep_machine(line, machine, is_added)
        changes = changes + of_client
        if is_added and not line.of(_F.TAG):
            says.append(f"it has no tag: it becomes {machine.tag}")
        status = LineStatus.ADDED if is_added else self._fate(line, changes, says)
        return LineResult(
            line=line.line, status=status, client=client.name, tag=machine.tag,
            new_client=is_new_client, changes=tuple(changes), remarks=tuple(says),
        )  # fmt: skip

    # --- whose, and which ------------------------------------------------------------------

    def _machine(self, line: Line) -> KnownRow | None:
        number, tag = line.of(_F.NUMBER), line.of(_F.TAG)
        machine = self._machine_numbers.get(number) if number else None
        return machine or (self._tags.get(tag) if tag else None)

    def _by_serial(self, line: Line, client: KnownRow) -> KnownRow | None:
        serial = line.of(_F.SERIAL)
        machine = self._serials.get(_serial_key(client, serial)) if serial else None
        if machine is not None and line.of(_F.TAG) and line.of(_F.TAG) != machine.tag:
            where = f"line {machine.line}" if machine.line else f"{machine.tag} in the shop"
            raise _RefusedError(f"its serial number is that of {where}, which has another tag")
        return machine

    def _client(self, line: Line, machine: KnownRow | None) -> KnownRow:
        name, number = line.of(_F.CLIENT), line.of(_F.CLIENT_NUMBER)
        client = self._client_numbers.get(number) if number else None
        client = client or (self._client_named(name) if name else None)
        if client is None and not name and machine is not None:
            client = machine.client
        if client is None:
            if not name:
                raise _RefusedError("it names no client")
            client = KnownRow({_F.CLIENT: name})
        if client.retired:
            raise _RefusedError(f"{client.name} is retired: bring the client back first")
        return client

    def _client_named(self, name: str) -> KnownRow | None:
        """As it is written, or else as it is spelled otherwise."""
        return self._clients.get(_plain(name)) or self._clients.get(_folded(name))

    def _name_client(self, client: KnownRow) -> None:
        self._clients.setdefault(_folded(client.name), client)
        self._clients[_plain(client.name)] = client

    def _check_owner(self, line: Line, machine: KnownRow, client: KnownRow) -> None:
        if machine.retired:
            raise _RefusedError(f"{machine.tag} is retired: bring the machine back first")
        owner = machine.client
        if owner is not None and owner is not client:
            where = f"line {machine.line}" if machine.line else "the shop"
            raise _RefusedError(
                f"{machine.tag} is a machine of {owner.name} in {where}: give it another tag, or "
                "move it first"
            )
        tag = line.of(_F.TAG)
        other = self._tags.get(tag) if tag else None
        if other is not None and other is not machine:
            raise _RefusedError(f"its number is that of {machine.tag}, its tag is another's")

    # --- what it brings ----------------------------------------------------------------------

    def _of_client(self, line: Line, client: KnownRow, is_new: bool) -> LineResult:
        says = [*line.says]
        earlier = self._seen.get(id(client))
        changes = self._take_client(line, client, is_new, says)
        if is_new:
            status = LineStatus.ADDED
        elif earlier is not None and not changes and len(says) == len(line.says):
            status = LineStatus.DOUBLE
            says.append(f"line {earlier} says the same")
        else:
            status = self._fate(line, changes, says)
        self._seen.setdefault(id(client), line.line)
        return LineResult(
            line=line.line, status=status, client=client.name, new_client=is_new,
            changes=tuple(changes), remarks=tuple(says),
        )  # fmt: skip

    def _take_client(
        self, line: Line, client: KnownRow, is_new: bool, says: list[str]
    ) -> list[FieldChange]:
        """What the line says of the client; nothing of it counts before it can be written."""
        draft = KnownRow(dict(client.said), client.id)
        changes = self._merge(line, draft, OF_CLIENT, says)
        _check(draft, ClientEdit, OF_CLIENT)
        client.said, number = draft.said, line.of(_F.CLIENT_NUMBER)
        self._note_match("client", client)
        self._name_client(client)
        if number and number not in self._client_numbers:
            self._client_numbers[number] = client
            client.number = number
        if is_new:
            client.line = line.line
            self.plan.clients.append(client)
            return []
        client.changes += changes
        if (changes or client.number) and client.id and client not in self.plan.clients:
            self.plan.clients.append(client)
        return changes

    def _merge(
        self, line: Line, kept: KnownRow, fields: dict[ListField, str], says: list[str]
    ) -> list[FieldChange]:
        """Fields that the line knows and the shop does not, or otherwise; the list is right where
        that was said."""
        changes = []
        for listed in fields:
            before, after = kept.said.get(listed, ""), line.of(listed)
            if not after or _is_same(listed, before, after):
                continue
            # what lines before it added is the list's own, and the first of them counts
            if before and (not self._overwrite or kept.id is None):
                says.append(f"{shown(listed)}: “{before[:60]}” stays, not “{after[:60]}”")
                continue
            kept.said[listed] = after
            changes.append(FieldChange(field=listed, before=before, after=after))
        return changes

    def _fate(self, line: Line, changes: Sequence[FieldChange], says: Sequence[str]) -> LineStatus:
        if any(change.before for change in changes):
            return LineStatus.CHANGED
        if changes:
            return LineStatus.COMPLETED
        return LineStatus.DIFFERS if len(says) > len(line.says) else LineStatus.SAME

    def _double(self, line: Line, machine: KnownRow, earlier: int) -> LineResult:
        says = [f"line {earlier} is of the same machine", *line.says]
        for listed in (*OF_MACHINE, *OF_CLIENT):
            owner = machine if listed in OF_MACHINE else machine.client
            known, other = (owner.said.get(listed, "") if owner else ""), line.of(listed)
            if other and not _is_same(listed, known, other):
                says.append(f"{shown(listed)}: “{other[:60]}” of this line is left out")
        client = machine.client.name if machine.client else ""
        return LineResult(line=line.line, status=LineStatus.DOUBLE, client=client, tag=machine.tag,
                        remarks=tuple(says))  # fmt: skip

    def _new_machine(self, line: Line, client: KnownRow) -> KnownRow:
        if not any(line.of(known) for known in (_F.NUMBER, _F.TAG, _F.SERIAL)):
            raise _RefusedError(
                "it has neither tag nor serial number nor a number of its own: taken in again, it "
                "would be added again"
            )
        said = {known: line.of(known) for known in OF_MACHINE if line.of(known)}
        if _F.SYSTEM not in said:
            if self._system is None:
                raise _RefusedError("its system is not said: Windows, macOS or Linux")
            said[_F.SYSTEM] = self._system.value
        said.setdefault(_F.TAG, self._free_tag(client.name))
        machine = KnownRow(said, client=client)
        _check(machine, MachineEdit, OF_MACHINE)
        return machine

    def _free_tag(self, name: str) -> str:
        stem, number = slug(name)[:56].strip("-") or "machine", 1
        while f"{stem}-{number}" in self.taken:
            number += 1
        return f"{stem}-{number}"

    def _keep_machine(self, line: Line, machine: KnownRow, is_added: bool) -> None:
        number = line.of(_F.NUMBER)
        if number and number not in self._machine_numbers:
            self._machine_numbers[number] = machine
            machine.number = number
        if is_added:
            machine.line = line.line
        self.taken.add(machine.tag)
        self._tags[machine.tag] = machine
        if machine.client and machine.said.get(_F.SERIAL):
            self._serials[_serial_key(machine.client, machine.said[_F.SERIAL])] = machine
        self._seen[id(machine)] = line.line
        self._note_match("machine", machine)
        if is_added or machine.changes or machine.number:
            self.plan.machines.append(machine)

    def _note_match(self, kind: str, kept: KnownRow) -> None:
        if kept.id is not None:
            self.plan.matched.add((kind, kept.id, kept.version))


def edit_of_client(client: KnownRow, base: ClientEdit | None = None) -> ClientEdit:
    """As it will be written down; `base` has what no list says."""
    said = {OF_CLIENT[listed]: text for listed, text in client.said.items()}
    return ClientEdit.model_validate((base.model_dump() if base else {}) | said)


def edit_of_machine(
    machine: KnownRow, client_id: int, base: MachineEdit | None = None
) -> MachineEdit:
    said = {OF_MACHINE[listed]: text for listed, text in machine.said.items()}
    return MachineEdit.model_validate(
        (base.model_dump() if base else {}) | said | {"client_id": client_id}
    )


def _check(
    kept: KnownRow, kind: type[ClientEdit | MachineEdit], fields: dict[ListField, str]
) -> None:
    """Whether it could be written down."""
    try:
        if kind is ClientEdit:
            edit_of_client(kept)
        else:
            edit_of_machine(kept, 1)
    except ValidationError as error:
        names = {named: listed for listed, named in fields.items()}
        problem = error.errors(include_url=False)[0]
        listed = names.get(str(problem["loc"][0])) if problem["loc"] else None
        what = f"{shown(listed)}: " if listed else ""
        raise _RefusedError(f"{what}{problem['msg'].removeprefix('Value error, ')}") from error


def _plain(text: str) -> str:
    return " ".join(text.casefold().split())


def _folded(text: str) -> str:
    return " ".join(spelled_out(text).split())


def _is_same(listed: ListField, before: str, after: str) -> bool:
    if listed is _F.SERIAL:
        return _plain_serial(before) == _plain_serial(after)
    return _folded(before) == _folded(after)


def _plain_serial(serial: str) -> str:
    return serial.casefold().replace(" ", "")


def _serial_key(client: KnownRow | None, serial: str) -> tuple[int, str]:
    return id(client), _plain_serial(serial)
