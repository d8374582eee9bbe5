"""The agent's side: starting the nursery, having it fork workers, and hearing them out.

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

from phylax.agent.machines.linux.people import Person
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import SILENCE, BoundedReader, WorkerError

_TO_END = 5.0
"""Seconds within which a killed worker must be gone."""

LONGEST_WORK = 2 * 3600.0
"""Seconds that one piece of work for one person may take, however busy its worker says it is."""


class Nursery:
    """The small process that forks workers. To be started before the agent reads its key."""

    def __init__(self) -> None:
        self._stuck: dict[int, int] = {}
        """By user number: a worker that could not be killed."""
        self._start()

    _closed = False

    def _start(self) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-m", "phylax.agent.workers.nursery", str(theirs.fileno())],
            pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
            env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8"}, cwd="/",
            start_new_session=True,
        )  # fmt: skip
        theirs.close()
        self._end = ours

    def close(self) -> None:
        """End the nursery, and with it all workers."""
        self._closed = True
        self._end.close()
        try:
            self._process.wait(timeout=30)
        except subprocess.TimeoutExpired:
            self._process.kill()

    def _ask(self, request: dict[str, object], handle: int | None = None) -> dict[str, object]:
        text = json.dumps(request).encode()
        try:
            socket.send_fds(self._end, [text], [] if handle is None else [handle])
            answer = self._end.recv(4096)
        except OSError as error:
            raise WorkerError(f"the nursery has ended: {error.strerror}") from error
        if not answer:
            raise WorkerError("the nursery has ended")
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
        if person.uid in self._stuck:
            if not self._has_ended(self._stuck[person.uid]):
                raise WorkerError("an earlier worker of this person hangs and cannot be ended")
            del self._stuck[person.uid]
        if self._process.poll() is not None and not self._closed:
            # it ended, whoever ended it: a new one, as clean as the first
            self._end.close()
            self._start()
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
        """Waits until the nursery answers, which has then loaded all that a worker needs."""
        return self._has_ended(0)

    def _has_ended(self, pid: int) -> bool:
        return bool(self._ask({"do": "ended", "pid": pid})["ok"])
