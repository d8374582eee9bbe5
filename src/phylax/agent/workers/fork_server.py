"""The fork server: a small process of root's that forks workers and holds nothing worth stealing.

Run as `python -I -m phylax.agent.workers.fork_server HANDLE` while there is work. On HANDLE
it takes one request a line (`{"do": "fork", "uid": 1000, "gid": 1000}` with the worker's end of a
socket pair, `{"do": "end", "pid": 4711}`, `{"do": "ended", "pid": 4711}`, `{"do": "version"}`) and
answers each with a line. It ends when the agent does.

Assumed: nothing of the person whose user a worker takes. They may stop, kill and limit it at any
moment; they may not attach to it, since it is not dumpable and never exec'ed.
"""

from __future__ import annotations

import ctypes
import gc
import json
import os
import resource
import signal
import socket
import sys
from contextlib import suppress

from phylax import __version__

_PR_SET_PDEATHSIG, _PR_SET_DUMPABLE, _PR_SET_NO_NEW_PRIVS = 1, 4, 38
_ROOM = 512 * 2**20
"""Bytes of address space that a worker may have beyond what it is born with."""
_HANDLES, _LONGEST_FILE, _SECONDS = 1024, 256 * 2**20, 4 * 3600
_REQUEST = 4096
_COLLECT_AFTER = 50_000
"""New objects, of which a walk makes and drops very many without any circles."""


class RightsError(Exception):
    """A worker could not give up root's rights; it does nothing."""


def drop_rights(uid: int, gid: int, parent: int) -> None:
    """Take a person's user and group for good, with bounds. RightsError where root could be had
    back, or the agent has gone meanwhile."""
    if uid == 0 or gid == 0:
        raise RightsError("a worker is never root's")
    os.setsid()
    os.umask(0o077)
    born_with = _address_space()
    for kind, most in (
        (resource.RLIMIT_CORE, 0),
        (resource.RLIMIT_AS, born_with + _ROOM),
        (resource.RLIMIT_CPU, _SECONDS),
        (resource.RLIMIT_NOFILE, _HANDLES),
        (resource.RLIMIT_FSIZE, _LONGEST_FILE),
    ):
        resource.setrlimit(kind, (most, most))
    # a group such as disk or docker is root's equal: no groups but the person's own
    os.setgroups([])
    os.setresgid(gid, gid, gid)
    os.setresuid(uid, uid, uid)
    libc = ctypes.CDLL(None, use_errno=True)
    for option, value in (
        (_PR_SET_NO_NEW_PRIVS, 1),
        (_PR_SET_DUMPABLE, 0),
        # taking another user clears it, so it comes last
        (_PR_SET_PDEATHSIG, signal.SIGKILL),
    ):
        if libc.prctl(option, value, 0, 0, 0):
            raise RightsError(f"prctl {option}: {os.strerror(ctypes.get_errno())}")
    if os.getppid() != parent:
        raise RightsError("the fork server has ended")
    with suppress(PermissionError):
        os.setresuid(0, 0, 0)
        raise RightsError("root's rights can be had back")
    if os.getresuid() != (uid,) * 3 or os.getresgid() != (gid,) * 3 or os.getgroups():
        raise RightsError("not all of root's rights are given up")


def _address_space() -> int:
    with open("/proc/self/statm", encoding="ascii") as file:
        return int(file.read().split()[0]) * resource.getpagesize()


def _become_worker(end: socket.socket, uid: int, gid: int, parent: int) -> None:
    """In the forked process: never returns."""
    code = 1
    try:
        signal.signal(signal.SIGTERM, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        kept = end.fileno()
        os.closerange(3, kept)
        os.closerange(kept + 1, resource.getrlimit(resource.RLIMIT_NOFILE)[0])
        os.chdir("/")
        drop_rights(uid, gid, parent)
        from phylax.agent.workers.person import work

        work(end)
        code = 0
    except BaseException as error:  # noqa: BLE001
        # whatever happens, it must not go on as a second fork server
        with suppress(Exception):
            text = json.dumps({"kind": "failed", "why": f"{type(error).__name__}: {error}"[:500]})
            end.setblocking(True)
            end.sendall(len(text.encode()).to_bytes(4, "big") + text.encode())
    finally:
        os._exit(code)


def main(handle: int) -> None:
    """Serve the agent until it ends."""
    from phylax.agent.workers.person import load_all

    # what a worker needs is loaded once, here: it may not be allowed to read the program's files
    load_all()
    # what is loaded stays for good: workers need not go over it again and again, nor copy it
    gc.freeze()
    gc.set_threshold(_COLLECT_AFTER)
    agent = socket.socket(fileno=handle)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    while True:
        try:
            text, handles, _, _ = socket.recv_fds(agent, _REQUEST, 1)
        except InterruptedError:
            continue
        if not text:
            return
        request = json.loads(text)
        answer: dict[str, object] = {"ok": True}
        match request["do"]:
            case "fork":
                answer = _fork(handles[0], int(request["uid"]), int(request["gid"]))
            case "end":
                # one of ours that was not waited for keeps its number: nobody else is hit
                if int(request["pid"]) in _children:
                    os.kill(int(request["pid"]), signal.SIGKILL)
            case "version":
                answer = {"ok": True, "version": __version__}
            case "ended":
                answer = {"ok": _has_ended(int(request["pid"]))}
        agent.sendall(json.dumps(answer).encode() + b"\n")


_children: set[int] = set()


def _fork(handle: int, uid: int, gid: int) -> dict[str, object]:
    end, parent = socket.socket(fileno=handle), os.getpid()
    child = os.fork()
    if child == 0:
        _become_worker(end, uid, gid, parent)
    end.close()
    _children.add(child)
    return {"ok": True, "pid": child}


def _has_ended(pid: int) -> bool:
    """Whether a worker is over; never waits: one that hangs in the system cannot even be killed."""
    if pid not in _children:
        return True
    if os.waitpid(pid, os.WNOHANG)[0] == 0:
        return False
    _children.discard(pid)
    return True


if __name__ == "__main__":
    main(int(sys.argv[1]))
