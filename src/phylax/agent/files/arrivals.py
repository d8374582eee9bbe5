"""Since when folders lie where they lie.

A folder that is moved keeps the times of all that is in it. Only its own change time and that of
the folder it comes into move, and these move as well with every file that is made in them. So of a
folder that is in use it is only sure that it lies there since the first of the surveys,
one after the
other, that saw it there; the files in it count from then.
"""

from __future__ import annotations

import struct
from base64 import b64decode, b64encode
from collections.abc import Collection, Iterator
from contextlib import suppress
from pathlib import Path

from pydantic import Field, ValidationError

from phylax.core.ground.values import Value
from phylax.core.survey.file_stat import FileStat

MOST = 50_000
"""Folders that are remembered of one person; files in others count from the folders' own times."""
_ENTRY = struct.Struct("<QQQQ")
Key = tuple[int, int, int]
"""Device and file number of a folder, and the file number of the one it lies in."""


class Arrivals:
    """What earlier surveys knew, and what this one finds."""

    def __init__(self, known: dict[Key, int] | None = None, now: int = 0) -> None:
        """`now` is the epoch second of a survey that is to be remembered; 0: of none."""
        self._known = known or {}
        self._now = now
        self.folders: dict[Key, int] = {}

    def since(self, folder: FileStat, above: FileStat, by_times: int) -> int:
        """The epoch second since which a folder surely lies where it is; `by_times` is what its own
        times say."""
        key = (folder.st_dev, folder.st_ino, above.st_ino)
        first = self._known.get(key)
        if self._now and (key in self.folders or len(self.folders) < MOST):
            self.folders[key] = min(by_times, self._now if first is None else first)
        return by_times if first is None else min(by_times, first)

    def keep_of(self, devices: Collection[int]) -> None:
        """Of devices that this look left out, what earlier ones knew holds on. Of those that it
        looked at, a folder that it did not see may have gone, and its number be another's."""
        if not self._now:
            return
        for key, first in self._known.items():
            if key[0] in devices and len(self.folders) < MOST:
                self.folders.setdefault(key, first)


def packed(folders: dict[Key, int]) -> str:
    """In base64."""
    entries = (_ENTRY.pack(*key, max(0, since)) for key, since in folders.items())
    return b64encode(b"".join(entries)).decode("ascii")


def unpacked(text: str) -> dict[Key, int]:
    """ValueError where it is nothing that was packed."""
    try:
        entries = _ENTRY.iter_unpack(b64decode(text, validate=True))
        return {(device, file, above): since for device, file, above, since in entries}
    except struct.error as error:
        raise ValueError(str(error)) from error


def pages(folders: dict[Key, int], at_once: int) -> Iterator[str]:
    entries = list(folders.items())
    for start in range(0, len(entries), at_once):
        yield packed(dict(entries[start : start + at_once]))


class _Kept(Value):
    folders: str = Field(description="Packed, in base64")


class KeptArrivals:
    """The arrivals of one machine's people, in the agent's own folder: a file for each."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def known(self, whose: str) -> dict[Key, int]:
        """What cannot be read is as if nothing had been seen: then things stay longer."""
        try:
            text = (self._folder / f"{whose}.json").read_bytes()
            return unpacked(_Kept.model_validate_json(text).folders)
        except (OSError, ValidationError, ValueError):
            return {}

    def keep(self, whose: str, folders: dict[Key, int]) -> None:
        """The newest whole survey found these."""
        path = self._folder / f"{whose}.json"
        part = path.with_suffix(".part")
        # on a full volume what was known before stays: it is true still
        with suppress(OSError):
            self._folder.mkdir(parents=True, exist_ok=True)
            part.write_text(_Kept(folders=packed(folders)).model_dump_json(), encoding="ascii")
            part.replace(path)
