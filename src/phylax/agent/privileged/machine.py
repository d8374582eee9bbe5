"""This machine, for an agent whose own rights are those of cleaning: the rest is done by units."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from phylax.agent.machines.linux.mounts import mount_over, table_of
from phylax.agent.machines.linux.system import LinuxSystem
from phylax.agent.machines.linux.values import browsers, update_times
from phylax.agent.machines.upkeep import Watch
from phylax.agent.privileged.requests import (
    ActRequest,
    Begins,
    CheckRequest,
    Job,
    Listed,
    Part,
    RemoveThingRequest,
    Result,
    SweepRequest,
    WriteRequest,
)
from phylax.agent.privileged.rights import ACTIONS, CHECKS, THINGS, Rights
from phylax.agent.privileged.system_unit import PrivilegedUnit, privileged
from phylax.agent.tuning.setting_backend import SettingBackend
from phylax.core.actions import Action, ActionPart, UnderWay
from phylax.core.catalogue import Source
from phylax.core.checks.findings import Checked
from phylax.core.inventory import Inventory
from phylax.core.tuning.pieces import Piece, State
from phylax.core.tuning.verdicts import Seen

_BELOW_ETC = (update_times.SETTING, browsers.SETTING)


def _is_writable(path: str) -> bool:
    """Whether the file system over a path is mounted to be written to, as the system manager sees
    it and not as this unit does."""
    try:
        return "ro" not in mount_over(path, table_of(1)).options
    except OSError:
        return False


class ConfinedSystem(LinuxSystem):
    """The system's part of a Linux machine, for an agent that runs as a confined unit."""

    def check(self, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
        rights = CHECKS.get(kind)
        if rights is None:
            yield from super().check(kind, mode, watch)
            return
        for reply in self._done_by(rights, CheckRequest(check=kind, mode=mode), watch):
            if isinstance(reply, Result):
                yield reply.result
            elif isinstance(reply, Listed):
                yield reply.listed

    def act(
        self, action: Action, watch: Watch, cut_off: UnderWay | None = None
    ) -> Iterator[ActionPart | UnderWay]:
        rights = ACTIONS.get(action.action)
        if rights is None:
            yield from super().act(action, watch, cut_off)
            return
        for reply in self._done_by(rights, ActRequest(action=action, cut_off=cut_off), watch):
            if isinstance(reply, (Part, Begins)):
                yield reply.part

    def let_go(self, source: Source, name: str, breathe: Callable[[], None] = lambda: None) -> None:
        rights = THINGS.get(source)
        if rights is None:
            super().let_go(source, name, breathe)
            return
        request = RemoveThingRequest(source=source, name=name)
        for _ in self._done_by(rights, request, lambda done=0, of=None: breathe()):
            pass

    def values(self) -> list[Seen]:
        """What a unit may write counts, not what this process may: to it /etc is read-only."""
        can_write = _is_writable("/etc")
        return [
            seen.model_copy(update={"writable": can_write})
            if not seen.person and seen.key in _BELOW_ETC and not seen.writable
            else seen
            for seen in super().values()
        ]

    def hands(self) -> SettingBackend:
        return _SettingBackendByUnit(super().hands(), self._job)

    def _job(self, request: Any) -> Job:
        return Job(request=request, homes=self._homes, own_folders=self._own_folders)

    def _done_by(self, rights: Rights, request: Any, watch: Watch) -> Iterator[Any]:
        with privileged(rights) as unit:
            yield from unit.carry_out(self._job(request), watch)


class _SettingBackendByUnit:
    """Reads with the agent's own rights; writes what is the machine's through a unit, which stays
    for the changes that follow."""

    def __init__(self, own: SettingBackend, job: Callable[[Any], Job]) -> None:
        self._own = own
        self._job = job
        self._unit: PrivilegedUnit | None = None

    def __del__(self) -> None:
        self._close()

    def read(self, piece: Piece) -> State:
        return self._own.read(piece)

    def write(self, piece: Piece, state: State) -> None:
        if piece.of:
            self._own.write(piece, state)
        else:
            self._ask(WriteRequest(piece=piece, state=state))

    def sweep(self, piece: Piece) -> None:
        if piece.of:
            self._own.sweep(piece)
        else:
            self._ask(SweepRequest(piece=piece))

    def _ask(self, request: WriteRequest | SweepRequest) -> None:
        if self._unit is None:
            self._unit = PrivilegedUnit(Rights.SETTINGS)
        try:
            for _ in self._unit.carry_out(self._job(request), lambda done=0, of=None: None):
                pass
        except OSError:
            # refused, or ended: the next one begins anew
            self._close()
            raise

    def _close(self) -> None:
        unit, self._unit = self._unit, None
        if unit is not None:
            unit.close()
