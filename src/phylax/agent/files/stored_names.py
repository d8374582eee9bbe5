"""Names as a volume stores them: the same accents can be stored in two ways."""

from __future__ import annotations

import os

from phylax.core.retention.protection import composed


def stored_name(folder: str, name: str) -> str:
    """The name in a folder that reads like `name`: as written where there is one, else one whose
    accents are stored the other way; `name` itself where neither is there."""
    if name.isascii() or os.path.lexists(os.path.join(folder, name)):
        return name
    try:
        names = sorted(os.listdir(folder))
    except OSError:
        return name
    letters = composed(name)
    return next((other for other in names if composed(other) == letters), name)


def stored_path(path: str) -> str:
    """A whole path, each of its names as the volume stores it."""
    if path.isascii():
        return path
    top, rest = os.path.splitdrive(os.path.normpath(path))
    stored = top + os.sep
    for name in filter(None, rest.split(os.sep)):
        stored = os.path.join(stored, stored_name(stored, name))
    return stored
