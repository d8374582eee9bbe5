"""Asking the system's own tools: by absolute path, in a fixed surrounding, with bounds."""

from __future__ import annotations

import errno
import os
import selectors
import signal
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from typing import IO, NamedTuple

_BREATHE = 1.0
MOST = 256 * 1024
"""Bytes that are heard of a tool."""
_QUIET = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8"}


class ToolOutput(NamedTuple):
    """What a tool said, and with what it ended."""

    code: int
    text: str


def ask(
    command: Sequence[str], env: Mapping[str, str] | None = None, *, seconds: float = 10
) -> str:
    """What a tool says, as text. OSError where it is not there, fails, hangs or does not stop."""
    said = run(command, env, seconds=seconds)
    if said.code:
        raise OSError(errno.EIO, f"ended with {said.code}", command[0])
    return said.text


def run(
    command: Sequence[str],
    env: Mapping[str, str] | None = None,
    *,
    seconds: float = 10,
    breathe: Callable[[], None] = lambda: None,
    most: int = MOST,
) -> ToolOutput:
    """What a tool says and how it ends, both outputs together. OSError where it is not there,
    hangs or does not stop talking. `breathe` is called about once a second and may raise to end
    the waiting. Whatever ends it, the tool and all that it started is ended then."""
    if not os.path.isabs(command[0]):
        raise ValueError(f"{command[0]} is no absolute path")
    tool = subprocess.Popen(
        command, env=_QUIET | dict(env or {}), cwd="/", stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, start_new_session=True,
    )  # fmt: skip
    until = time.monotonic() + seconds
    try:
        said = _heard(tool, until, breathe, most)
        code = _end_of(tool, until, breathe)
    finally:
        if tool.poll() is None:
            # what it started lives in its session, and goes with it
            with suppress(ProcessLookupError):
                os.killpg(tool.pid, signal.SIGKILL)
            tool.wait()
        assert tool.stdout is not None
        tool.stdout.close()
    return ToolOutput(code, said.decode("utf-8", "replace"))


def _end_of(tool: subprocess.Popen[bytes], until: float, breathe: Callable[[], None]) -> int:
    """What a tool ends with that has said all it says."""
    while (left := until - time.monotonic()) > 0:
        with suppress(subprocess.TimeoutExpired):
            return tool.wait(timeout=min(left, _BREATHE))
        breathe()
    raise TimeoutError(errno.ETIMEDOUT, "does not answer", str(tool.args))


def _heard(
    tool: subprocess.Popen[bytes], until: float, breathe: Callable[[], None], most: int
) -> bytes:
    assert tool.stdout is not None
    said = b""
    with selectors.DefaultSelector() as waiting:
        waiting.register(tool.stdout, selectors.EVENT_READ)
        breathed = time.monotonic()
        while len(said) <= most:
            # who talks without a pause is ended as well
            if time.monotonic() - breathed >= _BREATHE:
                breathed = time.monotonic()
                breathe()
            left = until - time.monotonic()
            if left <= 0:
                raise TimeoutError(errno.ETIMEDOUT, "does not answer", str(tool.args))
            if not waiting.select(min(left, _BREATHE)):
                continue
            more = os.read(tool.stdout.fileno(), 65536)
            if not more:
                return said
            said += more
    raise OSError(errno.EFBIG, f"says more than {most} bytes", str(tool.args))


def start_apart(
    command: Sequence[str], env: Mapping[str, str], output: IO[bytes], *, umask: int
) -> subprocess.Popen[bytes]:
    """Start a tool that goes on when the agent ends: in a session of its own, its output in a
    file. OSError where it is not there."""
    if not os.path.isabs(command[0]):
        raise ValueError(f"{command[0]} is no absolute path")
    return subprocess.Popen(
        command, env=_QUIET | dict(env), cwd="/", stdin=subprocess.DEVNULL,
        stdout=output, stderr=subprocess.STDOUT, start_new_session=True,
    )  # fmt: skip
