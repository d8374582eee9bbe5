"""The agent's clock: what time it may believe it is (`core.believed_time`), kept in its folder."""

from __future__ import annotations

import logging
import os
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

import psutil
from pydantic import ValidationError

from phylax.agent.platform.uptime import running as running_time
from phylax.core.protocol.trusted_time import (
    Believed,
    TrustedTime,
    agreed,
    believed,
    by_clock_alone,
    stepped,
)

_FILE = "clock.json"
_NOTE_EVERY = 60.0
_log = logging.getLogger("phylax.agent")


class Clock:
    """What time it is, for ages and holds."""

    def believed(self) -> Believed:
        raise NotImplementedError

    def agree(self, service: datetime) -> None:
        """The service said its time."""


class OwnClock(Clock):
    """The system's clock alone: for machines that are pretended, and tests."""

    def believed(self) -> Believed:
        return by_clock_alone(time.time())


class BelievedClock(Clock):
    """The machine's clock, believed only as far as the service agrees with it."""

    def __init__(
        self,
        folder: Path,
        wall: Callable[[], float] = time.time,
        running: Callable[[], float] = running_time,
        boot: Callable[[], str] | None = None,
    ) -> None:
        self._path = folder / _FILE
        self._wall, self._running = wall, running
        self._boot = (boot or boot_of_this_machine)()
        self._credit = self._read()
        self._noted = -_NOTE_EVERY
        self._told = ""

    def believed(self) -> Believed:
        wall, running = self._wall(), self._running()
        if self._credit is not None:
            after = stepped(self._credit, wall, running, self._boot)
            if after is not self._credit:
                self._keep(after)
        now = believed(self._credit, wall, running, self._boot)
        if now.why != self._told:
            self._told = now.why
            if now.why:
                _log.warning("the clock is not trusted: %s; nothing goes until it is", now.why)
        return now

    def agree(self, service: datetime) -> None:
        running = self._running()
        # a clock that is set and set right again between two notes is seen all the same
        self.believed()
        if running - self._noted < _NOTE_EVERY and self._credit is not None:
            return
        after = agreed(self._credit, self._wall(), running, self._boot, service.timestamp())
        if after is not None and after != self._credit:
            self._noted = running
            self._keep(after)

    def _read(self) -> TrustedTime | None:
        """What was credited before. What cannot be read is as if there were none: then nothing goes
        until machine and service agree."""
        try:
            return TrustedTime.model_validate_json(self._path.read_bytes())
        except (OSError, ValidationError):
            return None

    def _keep(self, credit: TrustedTime) -> None:
        self._credit = credit
        part = self._path.with_suffix(".part")
        # on a full volume the last note stays, which is earlier and so never wrong
        with suppress(OSError):
            self._path.parent.mkdir(parents=True, exist_ok=True)
            part.write_text(credit.model_dump_json(), encoding="ascii")
            part.replace(self._path)


def boot_of_this_machine() -> str:
    """Identifies this start of the machine."""
    if sys.platform.startswith("linux"):
        with suppress(OSError), open("/proc/sys/kernel/random/boot_id", encoding="ascii") as file:
            return file.read().strip()
    # by the minute: it is reckoned from the clock, and moves when that is set
    return str(int(psutil.boot_time() // 60)) + os.name


def to_moment(second: float) -> datetime:
    return datetime.fromtimestamp(second, UTC)
