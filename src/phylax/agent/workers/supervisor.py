"""The agent's side: starting the fork server, having it fork workers, and hearing them out.

A worker that ends, floods, drips, lies in form or falls silent costs its own person's part of the
work and nothing else. One that cannot be killed is left behind, never waited for.
"""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import time

from pydantic import ValidationError

from phylax import __version__
from phylax.agent.machines.linux.people import Person
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import SILENCE, BoundedReader, WorkerError

_TO_END = 5.0
"""Seconds within which a killed worker must be gone."""

IDLE = 60.0
"""Seconds without work after which the fork server ends."""
LONGEST_WORK = 2 * 3600.0
"""Seconds that one piece of work for one person may take, however busy its worker says it is."""


class ForkServer:
    """The small process that forks workers. It is there while there is work: started when the
    first is asked for, ended when there was none for a while. It is executed anew each time, so
    that it holds nothing of the agent's memory, the key included."""

    def __init__(self) -> None:
        self._stuck: dict[int, int] = {}
        """By user number: a worker that could not be killed."""
        self._process: subprocess.Popen[bytes] | None = None
        self._end: socket.socket | None = None
        self._used = time.monotonic()

    _closed = False

    def _ready(self) -> socket.socket:
        """The way to ask it. WorkerError where it is another version of the program."""
        if self._closed:
            raise WorkerError("the fork server has ended")
        if self._process is not None and self._process.poll() is not None:
            # it ended, whoever ended it: a new one, as clean as the first
            self._let_end()
        if self._end is None:
            self._start()
            answer = self._ask({"do": "version"})
            if answer.get("version") != __version__:
                self._let_end()
                raise WorkerError("the program was upgraded: the agent has to be started again")
        self._used = time.monotonic()
        assert self._end is not None
        return self._end

    def _start(self) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-m", "phylax.agent.workers.fork_server", str(theirs.fileno())],
            pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
            env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8"}, cwd="/",
            start_new_session=True,
        )  # fmt: skip
        theirs.close()
        self._end = ours

    def close(self) -> None:
        """End the fork server, and with it all workers."""
        self._closed = True
        self._let_end()

    def rest(self, after: float = IDLE) -> None:
        """End it where nothing was asked of it for so many seconds: an idle machine keeps its
        memory. Not while a worker hangs that only it knows of."""
        if self._end is None or time.monotonic() - self._used < after:
            return
        if all(self._has_ended(pid) for pid in self._stuck.values()):
            self._let_end()

    def _let_end(self) -> None:
        if self._end is not None:
            self._end.close()
            self._end = None
        if self._process is not None:
            try:
                self._process.wait(timeout=30)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
            self._process = None

    def _ask(self, request: dict[str, object], handle: int | None = None) -> dict[str, object]:
        text, end = json.dumps(request).encode(), self._end
        if end is None:
            raise WorkerError("the fork server has ended")
        try:
            socket.send_fds(end, [text], [] if handle is None else [handle])
            answer = end.recv(4096)
        except OSError as error:
            raise WorkerError(f"the fork server has ended: {error.strerror}") from error
        if not answer:
            raise WorkerError("the fork server has ended")
        return dict(json.loads(answer))

    def work(
        self,
        person: Person,
        job: jobs.Job,
        handle: jobs.Handler,
        *,
        silence: float = SILENCE,
        longest_work: float = LONGEST_WORK,
    ) -> jobs.Report:
        """Have a worker with a person's rights do a job. Each of its messages goes to `handle`;
        the last, its report, is returned.

        WorkerError where it ends without one, or passes any bound.
        """
        self._ready()
        if person.uid in self._stuck:
            if not self._has_ended(self._stuck[person.uid]):
                raise WorkerError("an earlier worker of this person hangs and cannot be ended")
            del self._stuck[person.uid]
        ours, theirs = socket.socketpair()
        try:
            request = {"do": "fork", "uid": person.uid, "gid": person.gid}
            answer = self._ask(request, theirs.fileno())
        finally:
            theirs.close()
        pid = int(str(answer["pid"]))
        try:
            return self._hear(ours, job, handle, silence, longest_work)
        finally:
            ours.close()
            self._end_worker(person.uid, pid)
            self._used = time.monotonic()

    def _hear(
        self,
        end: socket.socket,
        job: jobs.Job,
        handle: jobs.Handler,
        silence: float,
        longest_work: float,
    ) -> jobs.Report:
        reader = BoundedReader(end, silence=silence, longest_work=longest_work)
        reader.send(job.model_dump_json().encode())
        while True:
            text = reader.next()
            try:
                message = jobs.FROM_WORKER.validate_json(text)
            except ValidationError as error:
                why = error.errors()[0]["msg"]
                raise WorkerError(f"it sent something that is no message: {why}") from error
            if isinstance(message, jobs.Report):
                return message
            if isinstance(message, jobs.Failed):
                raise WorkerError(message.why)
            reply = handle(message)
            if reply is not None:
                reader.send(reply.model_dump_json().encode())

    def _end_worker(self, uid: int, pid: int) -> None:
        self._ask({"do": "end", "pid": pid})
        until = time.monotonic() + _TO_END
        while not self._has_ended(pid):
            if time.monotonic() > until:
                self._stuck[uid] = pid
                return
            time.sleep(0.002)

    def is_ready(self) -> bool:
        """Waits until the fork server answers, which has then loaded all that a worker needs."""
        self._ready()
        return self._has_ended(0)

    def _has_ended(self, pid: int) -> bool:
        return bool(self._ask({"do": "ended", "pid": pid})["ok"])
