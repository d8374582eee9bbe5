"""Restarting through logind on the message bus: it warns, and everybody can put it off."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from jeepney import DBusAddress

from phylax.agent.machines.linux import starts
from phylax.agent.machines.linux.values.bus import Bus

_LOGIND = DBusAddress(
    "/org/freedesktop/login1", "org.freedesktop.login1", "org.freedesktop.login1.Manager"
)
_MOST = 20


class LogindRestart:
    """What restarts a Linux machine."""

    def __init__(self, address: str) -> None:
        self._address = address

    def boot(self) -> str:
        return starts.boot()

    def obstacles(self) -> Sequence[str]:
        """What programs said must not end now (inhibitors of shutdown that block)."""
        bus = Bus(self._address)
        try:
            ((listed),) = bus.call(_LOGIND, "ListInhibitors")
        finally:
            bus.close()
        return [
            f"{who}: {why}"[:200]
            for what, who, why, mode, *_ in listed[:_MOST]
            if mode == "block" and "shutdown" in str(what).split(":")
        ]

    def schedule(self, at: datetime, words: str) -> None:
        bus = Bus(self._address)
        try:
            bus.call(_LOGIND, "SetWallMessage", "sb", (words, True))
            micro = int(at.timestamp() * 1_000_000)
            bus.call(_LOGIND, "ScheduleShutdown", "st", ("reboot", micro))
        finally:
            bus.close()

    def is_scheduled(self) -> bool:
        bus = Bus(self._address)
        try:
            kind, _ = bus.property(_LOGIND, "ScheduledShutdown")
        finally:
            bus.close()
        return str(kind) == "reboot"

    def cancel(self) -> None:
        bus = Bus(self._address)
        try:
            bus.call(_LOGIND, "CancelScheduledShutdown")
        finally:
            bus.close()
