"""Asking the system's own tools: by absolute path, in a fixed surrounding, with bounds."""

from __future__ import annotations

import errno
import os
import selectors
import subprocess
import time
from collections.abc import Mapping, Sequence

MOST = 256 * 1024
"""Bytes that are heard of a tool."""
_QUIET = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL": "C.UTF-8"}


def ask(
    command: Sequence[str], env: Mapping[str, str] | None = None, *, seconds: float = 10
) -> str:
    """What a tool says, as text. OSError where it is not there, fails, hangs or does not stop."""
    if not os.path.isabs(command[0]):
        raise ValueError(f"{command[0]} is no absolute path")
    tool = subprocess.Popen(
        command, env=_QUIET | dict(env or {}), cwd="/", stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip
    try:
        said = _heard(tool, time.monotonic() + seconds)
        code = tool.wait(timeout=seconds)
    except subprocess.TimeoutExpired:
        raise TimeoutError(errno.ETIMEDOUT, "does not answer", command[0]) from None
    finally:
        if tool.poll() is None:
            tool.kill()
            tool.wait()
        assert tool.stdout is not None
        tool.stdout.close()
    if code:
        raise OSError(errno.EIO, f"ended with {code}", command[0])
    return said.decode("utf-8", "replace")


def _heard(tool: subprocess.Popen[bytes], until: float) -> bytes:
    assert tool.stdout is not None
    said = b""
    with selectors.DefaultSelector() as waiting:
        waiting.register(tool.stdout, selectors.EVENT_READ)
        while len(said) <= MOST:
            left = until - time.monotonic()
            if left <= 0 or not waiting.select(left):
                raise TimeoutError(errno.ETIMEDOUT, "does not answer", str(tool.args))
            more = os.read(tool.stdout.fileno(), 65536)
            if not more:
                return said
            said += more
    raise OSError(errno.EFBIG, f"says more than {MOST} bytes", str(tool.args))
