"""Numbers of the forgotten, outside the shop's file: a backup that is restored, or an archive that
is loaded, has them still, and they are forgotten again.

A line of JSON for each, without names: the shop, the number of the client, and what tells the
client from another that gets the same number later.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

FILE = "forgotten.jsonl"


class Forgotten(NamedTuple):
    """A client who was forgotten."""

    shop: str
    client: int
    uid: str
    entries: tuple[str, ...] = ()
    """Digests of entries of other machines that named them."""


def note(folder: Path, forgotten: Forgotten) -> None:
    """On the disk when this returns; once. OSError."""
    if forgotten in read([folder]):
        return
    with open(
        os.open(folder / FILE, os.O_CREAT | os.O_APPEND | os.O_WRONLY, 0o600), "a", encoding="utf-8"
    ) as file:
        # one that was cut off ends where the next begins
        file.write("\n" + json.dumps(forgotten._asdict()) + "\n")
        file.flush()
        os.fsync(file.fileno())


def read(folders: Iterable[Path]) -> list[Forgotten]:
    """Each once; what cannot be read is left."""
    known: dict[tuple[str, int, str], Forgotten] = {}
    for folder in dict.fromkeys(folders):
        try:
            lines = (folder / FILE).read_text("utf-8", "replace").splitlines()
        except OSError:
            continue
        for line in lines:
            try:
                said = json.loads(line)
                key = str(said["shop"]), int(said["client"]), str(said["uid"])
                entries = tuple(map(str, said.get("entries", ())))
            except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
                continue
            before = known[key].entries if key in known else ()
            known[key] = Forgotten(*key, tuple(dict.fromkeys((*before, *entries))))
    return list(known.values())


def carry(source: Path, target: Path) -> None:
    """What is known in one folder, known in another as well. OSError."""
    for forgotten in read([source]):
        note(target, forgotten)
