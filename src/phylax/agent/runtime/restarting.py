"""A restart at an agreed time: people are warned and may put it off; what must not end is waited
for; and only a start of another name proves that it happened."""

from __future__ import annotations

import logging
import time
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from typing import Final

from phylax.agent.account.run_journal import RunJournal
from phylax.agent.machines.upkeep import Restarting, Watch
from phylax.core.actions import ActEnd, ActionPart, Restart

_NOTE: Final = "restart"
_LOOK = 0.5
_GIVE_UP = timedelta(minutes=10)
"""So long after its time a restart that did not happen is given up."""
_WAIT = timedelta(minutes=30)
"""So long what must not be ended is waited for."""
_log = logging.getLogger("phylax.agent")


def restart(
    action: Restart, machine: Restarting, journal: RunJournal, watch: Watch, *,
    give_up: timedelta = _GIVE_UP, wait: timedelta = _WAIT,
) -> ActionPart:  # fmt: skip
    """What came of it. OSError where the machine cannot be asked. Called off or ended in the
    middle, it does not restart, unless it has begun to."""
    noted = journal.noted.get(_NOTE)
    if noted is not None and noted["boot"] != machine.boot():
        return _came_back(datetime.fromisoformat(noted["at"]))
    boot = machine.boot()
    if obstacle := _waits_for_obstacles(machine, watch, wait):
        return ActionPart(
            target="", end=ActEnd.REFUSED, why=f"it would end what must not be: {obstacle}"[:500]
        )
    left = action.postponements
    at = datetime.now(UTC) + timedelta(minutes=action.warn_minutes)
    # before it is asked for: whoever starts after it must know that it was
    journal.note(_NOTE, {"boot": boot, "at": at.isoformat()})
    machine.schedule(at, _words(at, left))
    try:
        while True:
            watch()
            time.sleep(_LOOK)
            scheduled = machine.is_scheduled()
            if machine.boot() != boot:
                return _came_back(at)
            if not scheduled and datetime.now(UTC) < at + give_up:
                if not left and action.postponements:
                    why = "somebody at it put it off once more than agreed"
                    return ActionPart(target="", end=ActEnd.REFUSED, why=why)
                if not left:
                    return ActionPart(
                        target="", end=ActEnd.REFUSED, why="somebody at it put it off"
                    )
                left -= 1
                at = datetime.now(UTC) + timedelta(minutes=action.postpone_minutes)
                journal.note(_NOTE, {"boot": boot, "at": at.isoformat()})
                _pause(at, action.warn_minutes, watch)
                machine.schedule(at, _words(at, left))
            elif datetime.now(UTC) >= at + give_up:
                with suppress(OSError):
                    machine.cancel()
                why = "it was asked to, and did not"
                return ActionPart(target="", end=ActEnd.FAILED, why=why)
            elif datetime.now(UTC) < at and (obstacles := machine.obstacles()):
                # something began meanwhile: it goes first
                machine.cancel()
                if obstacle := _waits_for_obstacles(machine, watch, wait):
                    why = f"it would end what must not be: {obstacle}"[:500]
                    return ActionPart(target="", end=ActEnd.REFUSED, why=why)
                _log.info("the restart waited for %s", obstacles[0])
                at = datetime.now(UTC) + timedelta(minutes=action.warn_minutes)
                journal.note(_NOTE, {"boot": boot, "at": at.isoformat()})
                machine.schedule(at, _words(at, left))
    except OSError:
        with suppress(OSError):
            machine.cancel()
        raise
    except Exception:
        # called off or out of time; an agent that is merely ended may be ended by the restart
        if not _is_ending(machine, at):
            with suppress(OSError):
                machine.cancel()
        raise


def _is_ending(machine: Restarting, at: datetime) -> bool:
    """Whether the machine is about to go down by what was asked for."""
    return datetime.now(UTC) >= at - timedelta(seconds=2)


def _pause(at: datetime, warn_minutes: int, watch: Watch) -> None:
    """Leave people in peace until it is time to warn them again."""
    while datetime.now(UTC) < at - timedelta(minutes=warn_minutes):
        watch()
        time.sleep(_LOOK)


def _waits_for_obstacles(machine: Restarting, watch: Watch, wait: timedelta) -> str:
    """What still must not be ended after a while; empty: nothing."""
    until = time.monotonic() + wait.total_seconds()
    while obstacles := machine.obstacles():
        watch()
        if time.monotonic() >= until:
            return obstacles[0]
        time.sleep(_LOOK)
    return ""


def _came_back(at: datetime) -> ActionPart:
    return ActionPart(
        target="", end=ActEnd.DONE, after=f"restarted, asked for {at:%Y-%m-%d %H:%M} UTC"
    )


def _words(at: datetime, left: int) -> str:
    local = at.astimezone()
    words = f"This computer restarts at {local:%H:%M} for its maintenance. Save your work."
    if left:
        words += " To put it off, run: shutdown -c"
    return words
