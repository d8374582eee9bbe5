"""The message bus of a person's session: theirs where they are signed in, else one of our own for
a moment. To be asked with that person's rights."""

from __future__ import annotations

import errno
import os
import select
import stat
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager

_DAEMON = "/usr/bin/dbus-daemon"
_SECONDS = 5.0


def runtime_folder(uid: int) -> str:
    """Where a person's session keeps its sockets."""
    return f"/run/user/{uid}"


@contextmanager
def bus_of_person(uid: int, home: str = "") -> Iterator[str]:
    """The address of their session's bus. OSError where there is none to be had."""
    theirs = os.path.join(runtime_folder(uid), "bus")
    if _is_socket_of(theirs, uid):
        yield f"unix:path={theirs}"
        return
    with _own_bus(home) as address:
        yield address


def _is_socket_of(path: str, uid: int) -> bool:
    try:
        st = os.lstat(path)
    except OSError:
        return False
    return stat.S_ISSOCK(st.st_mode) and st.st_uid == uid


@contextmanager
def _own_bus(home: str) -> Iterator[str]:
    with tempfile.TemporaryDirectory(prefix="phylax-") as runtime:
        env = {"PATH": "/usr/bin:/bin", "HOME": home, "XDG_RUNTIME_DIR": runtime}
        daemon = subprocess.Popen(
            [_DAEMON, "--session", "--nofork", "--nopidfile", "--print-address=1",
             f"--address=unix:path={runtime}/bus"],
            env=env, cwd="/", stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        try:
            assert daemon.stdout is not None
            if not select.select([daemon.stdout], [], [], _SECONDS)[0]:
                raise TimeoutError(errno.ETIMEDOUT, "does not start", _DAEMON)
            address = os.read(daemon.stdout.fileno(), 4096).decode("ascii", "replace").strip()
            if not address:
                raise OSError(errno.EIO, "does not start", _DAEMON)
            yield address
        finally:
            # what was started for somebody on that bus ends with it
            daemon.terminate()
            daemon.wait()
            assert daemon.stdout is not None
            daemon.stdout.close()
