"""Disabled revisions of self-contained packages, through snapd's own HTTP interface."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import datetime
from typing import Any

import httpx

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


def _all(socket: str) -> list[dict[str, Any]]:
    transport = httpx.HTTPTransport(uds=socket)
    try:
        with httpx.Client(transport=transport, timeout=_SECONDS) as client:
            answer = client.get("http://localhost/v2/snaps", params={"select": "all"})
            answer.raise_for_status()
            found = answer.json()["result"]
            return [dict(snap) for snap in found if snap["name"] and snap["revision"]]
    except httpx.HTTPError as error:
        raise OSError(f"the package service does not answer: {error}") from error
    except (ValueError, KeyError, TypeError) as error:
        raise OSError(f"the package service answers in an unknown way: {error!r}") from error


def _when(text: str | None) -> int | None:
    try:
        return int(datetime.fromisoformat(text or "").timestamp())
    except ValueError:
        return None
