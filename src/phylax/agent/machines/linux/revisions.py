"""Disabled revisions of self-contained packages, through snapd's own HTTP interface."""

from __future__ import annotations

import errno
import os
import time
from collections.abc import Callable, Iterator
from datetime import datetime
from typing import Any

from phylax.agent.machines import Thing

SOCKET = "/run/snapd.socket"
_SECONDS = 20.0


def revisions(socket: str = SOCKET) -> Iterator[Thing]:
    """Every installed revision that is not the active one. None where snapd does not run.

    `GET /v2/snaps?select=all` of snapd's documented interface, version 2. OSError where it cannot
    be asked or answers otherwise than documented.
    """
    if not os.path.exists(socket):
        return
    for snap in _all(socket):
        if snap.get("status") != "active":
            yield Thing(
                name=f"{snap['name']} ({snap['revision']})",
                size=int(snap.get("installed-size", 0)),
                aged_from=_when(snap.get("install-date")),
                group=str(snap["name"]),
            )


def remove(
    name: str,
    socket: str = SOCKET,
    *,
    pause: float = 0.5,
    patience: float = 300,
    breathe: Callable[[], None] = lambda: None,
) -> None:
    """Let one disabled revision go, named as `revisions` names it; returns when it has gone.

    `POST /v2/snaps/NAME` with `{"action": "remove", "revision": N}` begins a change; `GET
    /v2/changes/ID` tells when it is ready. OSError where it is active by now, is not there, or the
    package service refuses or takes longer than `patience` seconds.
    """
    package, _, rest = name.rpartition(" (")
    revision = rest.rstrip(")")
    status_of = {(s["name"], s["revision"]): s.get("status") for s in _all(socket)}
    if (package, revision) not in status_of:
        raise FileNotFoundError(errno.ENOENT, "no such revision", name)
    if status_of[package, revision] == "active":
        raise OSError(errno.EBUSY, "this revision is the active one by now", name)
    asked = {"action": "remove", "revision": revision}
    change = str(_ask(socket, "POST", f"/v2/snaps/{package}", asked)["change"])
    until = time.monotonic() + patience
    while True:
        state = _ask(socket, "GET", f"/v2/changes/{change}")["result"]
        if state["ready"]:
            break
        if time.monotonic() > until:
            raise OSError(errno.ETIMEDOUT, "the package service is not done yet", name)
        breathe()
        time.sleep(pause)
    if state.get("status") != "Done":
        raise OSError(errno.EIO, f"the package service says: {state.get('err') or state['status']}")


def _all(socket: str) -> list[dict[str, Any]]:
    try:
        revisions = _ask(socket, "GET", "/v2/snaps?select=all")["result"]
        return [dict(snap) for snap in revisions if snap["name"] and snap["revision"]]
    except (KeyError, TypeError, ValueError) as error:
        raise OSError(f"the package service answers in an unknown way: {error!r}") from error


def _ask(socket: str, method: str, path: str, body: dict[str, str] | None = None) -> dict[str, Any]:
    """One request; OSError where the service does not answer, refuses, or speaks no JSON object."""
    # late, so that what never asks does not load it
    import httpx

    transport = httpx.HTTPTransport(uds=socket)
    try:
        with httpx.Client(transport=transport, timeout=_SECONDS) as client:
            answer = client.request(method, f"http://localhost{path}", json=body)
            reply = answer.json() if answer.content else {}
            if answer.is_error:
                message = (
                    reply.get("result", {}).get("message") if isinstance(reply, dict) else None
                )
                raise OSError(f"the package service refuses: {message or answer.status_code}")
            return dict(reply)
    except httpx.HTTPError as error:
        raise OSError(f"the package service does not answer: {error}") from error
    except (ValueError, TypeError) as error:
        raise OSError(f"the package service answers in an unknown way: {error!r}") from error


def _when(text: str | None) -> int | None:
    try:
        return int(datetime.fromisoformat(text or "").timestamp())
    except ValueError:
        return None
