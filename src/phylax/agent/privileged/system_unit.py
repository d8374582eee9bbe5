"""Starting privileged work in a transient unit, by systemd-run(1), and talking to it.

The unit is the system manager's child and none of the agent's: it is not confined by the agent's
unit, and it is not ended with it.
"""

from __future__ import annotations

import errno
import os
import secrets
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any, Final

from phylax.agent.machines.upkeep import Watch
from phylax.agent.privileged.requests import REPLY, Done, Failed, GoOn, Job, Progress
from phylax.agent.privileged.rights import PROPERTIES, Rights
from phylax.agent.survey.task import Stopped
from phylax.agent.workers.channel import receive, send
from phylax.core.ground.values import Value

SYSTEMD_RUN: Final = "/usr/bin/systemd-run"
_TO_END = 10.0
"""Seconds that a unit gets to end after its agent has hung up."""


def command_of(rights: Rights, python: str = sys.executable) -> list[str]:
    """What starts a unit with some rights, its standard streams those of the caller."""
    name = f"phylax-{rights}-{secrets.token_hex(4)}"
    properties = [word for line in PROPERTIES[rights] for word in ("-p", line)]
    return [
        SYSTEMD_RUN, "--quiet", "--pipe", "--wait", "--collect", f"--unit={name}.service",
        f"--description=Phylax agent: work on {rights}", *properties,
        "--", python, "-I", "-m", "phylax.agent.privileged.serving",
    ]  # fmt: skip


class PrivilegedUnit:
    """A running unit that takes jobs one after the other. OSError where none can be started."""

    def __init__(self, rights: Rights, command: Sequence[str] | None = None) -> None:
        command = command or command_of(rights)
        if not os.path.exists(command[0]):
            raise OSError(errno.ENOTSUP, f"{rights}: there is no {command[0]} to start it with")
        ours, theirs = socket.socketpair()
        try:
            self._process = subprocess.Popen(
                command, stdin=theirs.fileno(), stdout=theirs.fileno(), cwd="/",
                env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8"},
            )  # fmt: skip
        except BaseException:
            ours.close()
            raise
        finally:
            theirs.close()
        self._rights = rights
        self._end = ours

    def close(self) -> None:
        """Hang up: the unit ends, at once or when what it does may end."""
        self._end.close()
        until = time.monotonic() + _TO_END
        while self._process.poll() is None and time.monotonic() < until:
            time.sleep(0.02)
        # only the one who waits for it is ended; the unit itself is the system manager's
        if self._process.poll() is None:
            self._process.terminate()
            self._process.wait()

    def carry_out(self, job: Job, watch: Watch) -> Iterator[Any]:
        """What comes of a job, one after the other. OSError as the work itself raises it, or where
        the unit ends in the middle. What `watch` raises is raised when the work has stopped; where
        that is no `Stopped`, at once."""
        self._send(job)
        stopped: Stopped | None = None
        while True:
            match self._next():
                case Done():
                    break
                case Failed(code=code, why=why, filename=filename):
                    raise OSError(code, why, *([filename] if filename else []))
                case Progress(done=done, of=total):
                    try:
                        if stopped is None:
                            watch(done, total)
                    except Stopped as stop:
                        stopped = stop
                    self._send(GoOn(go_on=stopped is None))
                case other:
                    yield other
        if stopped is not None:
            raise stopped

    def _send(self, message: Value) -> None:
        try:
            send(self._end, message.model_dump_json().encode())
        except OSError:
            raise self._ended() from None

    def _next(self) -> Any:
        try:
            text = receive(self._end)
        except OSError:
            text = None
        if text is None:
            raise self._ended()
        return REPLY.validate_json(text)

    def _ended(self) -> OSError:
        try:
            code: int | None = self._process.wait(timeout=_TO_END)
        except subprocess.TimeoutExpired:
            code = None
        why = f"the unit for work on {self._rights} ended with {code}: see the system's journal"
        return OSError(errno.EPERM if code == 1 else errno.EIO, why)


@contextmanager
def privileged(rights: Rights) -> Iterator[PrivilegedUnit]:
    """A unit for one piece of work."""
    unit = PrivilegedUnit(rights)
    try:
        yield unit
    finally:
        unit.close()


def runs_as_unit(environment: dict[str, str] | None = None) -> bool:
    """Whether this process is a unit's, whose rights may be less than root's (systemd.exec(5))."""
    known = os.environ if environment is None else environment
    return "INVOCATION_ID" in known and os.path.isdir("/run/systemd/system")
