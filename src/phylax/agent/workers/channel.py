"""Messages between the agent and a worker: a length of four bytes, then JSON, on a socket pair.

The agent trusts nothing that comes from a worker: not its length, its number, its speed or its
contents. Each is bounded here, and ends as one named error.
"""

from __future__ import annotations

import select
import socket
import struct
import time

LONGEST = 2**20
"""Bytes of one message from a worker."""
MOST = 2**29
"""Bytes of all messages of one piece of work."""
SILENCE = 60.0
"""Seconds within which a worker must say something."""
_LENGTH = struct.Struct(">I")


class WorkerError(Exception):
    """A worker ended, fell silent or spoke nonsense. What it did until then is looked at anew."""


def send(end: socket.socket, message: bytes) -> None:
    """Send a message whole. OSError where the other side has gone."""
    end.sendall(_LENGTH.pack(len(message)) + message)


def receive(end: socket.socket) -> bytes | None:
    """The next message, for who trusts the other side; None where it has closed."""
    head = _exactly(end, _LENGTH.size)
    return None if head is None else _exactly(end, _LENGTH.unpack(head)[0])


def _exactly(end: socket.socket, length: int) -> bytes | None:
    text = bytearray()
    while len(text) < length:
        more = end.recv(min(length - len(text), 2**16))
        if not more:
            return None
        text += more
    return bytes(text)


class BoundedReader:
    """Reads a worker's messages and gives up on it in time."""

    def __init__(
        self, end: socket.socket, *, silence: float = SILENCE, longest_work: float = 6 * 3600.0
    ) -> None:
        """`silence` seconds without a whole message, or `longest_work` seconds in all, end it: a
        drip of bytes is silence too."""
        self._end = end
        self._silence = silence
        self._until = time.monotonic() + longest_work
        self._sum = 0
        end.setblocking(False)

    def next(self) -> bytes:
        """The next message. WorkerError where the worker ended, or any bound is passed."""
        until = min(self._until, time.monotonic() + self._silence)
        (length,) = _LENGTH.unpack(self._read(_LENGTH.size, until))
        self._sum += length
        if length > LONGEST:
            raise WorkerError(f"it sent a message of {length} bytes")
        if self._sum > MOST:
            raise WorkerError("it sent more than any work has to say")
        return self._read(length, until)

    def _read(self, length: int, until: float) -> bytes:
        text = bytearray()
        while len(text) < length:
            left = until - time.monotonic()
            ready = left > 0 and select.select([self._end], [], [], left)[0]
            if not ready:
                raise WorkerError("it did not answer")
            try:
                # handles that a message carries along are dropped by the system
                more = self._end.recv(min(length - len(text), 2**16))
            except BlockingIOError:
                continue
            except OSError as error:
                raise WorkerError(f"it ended: {error.strerror}") from error
            if not more:
                raise WorkerError("it ended in the middle")
            text += more
        return bytes(text)

    def send(self, message: bytes) -> None:
        """Send a message, however slowly it is taken, within the bounds of silence."""
        until = min(self._until, time.monotonic() + self._silence)
        rest = memoryview(_LENGTH.pack(len(message)) + message)
        while rest:
            left = until - time.monotonic()
            if left <= 0 or not select.select([], [self._end], [], left)[1]:
                raise WorkerError("it does not listen")
            try:
                rest = rest[self._end.send(rest[: 2**16]) :]
            except BlockingIOError:
                continue
            except OSError as error:
                raise WorkerError(f"it ended: {error.strerror}") from error
