"""Carries out privileged jobs: `python -I -m phylax.agent.privileged.serving`, in its own unit.

Its standard input is one end of a socket pair; at the other is the agent. Where the agent goes
away, the work stops at the next place where that is safe: a package manager ends what it began.
"""

from __future__ import annotations

import errno
import os
import signal
import socket
import time
from collections.abc import Iterator

from phylax.agent.machines.linux.system import LinuxSystem
from phylax.agent.privileged.requests import (
    ActRequest,
    Begins,
    CheckRequest,
    Done,
    Failed,
    GoOn,
    Job,
    Listed,
    Part,
    Progress,
    RemoveThingRequest,
    Result,
    SweepRequest,
    WriteRequest,
)
from phylax.agent.survey.task import Stopped
from phylax.agent.workers.channel import receive, send
from phylax.core.actions import UnderWay
from phylax.core.checks.findings import Checked
from phylax.core.ground.values import Value

_TELL_EVERY = 0.5
"""Seconds between two words of progress."""


class Server:
    """One end of the socket pair, and the machine."""

    def __init__(self, end: socket.socket) -> None:
        self._end = end
        self._told = 0.0
        self._stopping = False

    def stop(self) -> None:
        """Stop at the next place where it is safe."""
        self._stopping = True

    def serve(self) -> None:
        """Take jobs until the agent has no more."""
        while (text := receive(self._end)) is not None:
            job = Job.model_validate_json(text)
            machine = LinuxSystem(job.homes, own_folders=job.own_folders)
            try:
                for reply in self._carry_out(job, machine):
                    self._say(reply)
            except Stopped:
                pass
            except OSError as failure:
                self._say(
                    Failed(
                        code=failure.errno or errno.EIO,
                        why=failure.strerror or str(failure),
                        filename=os.fsdecode(failure.filename or ""),
                    )
                )
                continue
            self._say(Done())

    def _carry_out(self, job: Job, machine: LinuxSystem) -> Iterator[Value]:
        match job.request:
            case CheckRequest(check=check, mode=mode):
                for result in machine.check(check, mode, self._watch):
                    if isinstance(result, Checked):
                        yield Result(result=result)
                    else:
                        yield Listed(listed=result)
            case ActRequest(action=action, cut_off=cut_off):
                for part in machine.act(action, self._watch, cut_off):
                    if isinstance(part, UnderWay):
                        yield Begins(part=part)
                        self._wait_for_answer(0, None)
                    else:
                        yield Part(part=part)
            case WriteRequest(piece=piece, state=state):
                machine.hands().write(piece, state)
            case SweepRequest(piece=piece):
                machine.hands().sweep(piece)
            case RemoveThingRequest(source=source, name=name):
                machine.let_go(source, name, self._watch)

    def _watch(self, done: int = 0, of: int | None = None) -> None:
        """Stopped where the agent says so, or has gone."""
        if self._stopping:
            raise Stopped
        if time.monotonic() - self._told < _TELL_EVERY:
            return
        self._wait_for_answer(done, of)

    def _wait_for_answer(self, done: int, of: int | None) -> None:
        self._say(Progress(done=done, of=of))
        text = receive(self._end)
        self._told = time.monotonic()
        if text is None or not GoOn.model_validate_json(text).go_on:
            self._stopping = True
            raise Stopped

    def _say(self, message: Value) -> None:
        try:
            send(self._end, message.model_dump_json().encode("utf-8", "replace"))
        except OSError:
            # the agent has gone: what is under way ends as if it were told to stop
            self._stopping = True


def main() -> None:
    with socket.socket(fileno=os.dup(0)) as end:
        server = Server(end)
        signal.signal(signal.SIGTERM, lambda number, frame: server.stop())
        # who has stopped listening is noticed when it is told
        signal.signal(signal.SIGPIPE, signal.SIG_IGN)
        server.serve()


if __name__ == "__main__":
    main()
