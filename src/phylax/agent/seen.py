"""One item as the agent sees it, and the weighing of a whole folder."""

from __future__ import annotations

import stat
from collections.abc import Callable
from typing import NamedTuple

from phylax.agent import files
from phylax.agent.walk import Complaint, walk


class Seen(NamedTuple):
    """An item with what is known of it. Ages are epoch seconds, sizes bytes on the volume."""

    path: str
    size: int
    aged_from: int
    device: int = 0
    file: int = 0
    apparent: int = 0
    modified_ns: int = 0
    insides: frozenset[tuple[int, int]] = frozenset()
    """(device, file number) of every file in it."""
    group: str = ""
    user: str = ""
    in_use: bool = False
    protected: bool = False
    is_link: bool = False


def weigh(
    name: str,
    parent: int,
    allocated: bool,
    complain: Complaint,
    keeps: Callable[[str], bool] | None = None,
    below: str = "",
    breathe: Callable[[], None] = lambda: None,
) -> Seen | None:
    """A file or a folder with all that is in it, hard links counted once; None: it is gone.

    Its age counts from the newest change in it. It is protected where `keeps` accepts it or
    anything inside, by the path below the place; `below` is where in the place it lies.
    """
    try:
        found = files.look(name, parent)
    except FileNotFoundError:
        return None
    shown = f"{below}{name}"
    size = found.st_blocks * 512 if allocated else found.st_size
    newest = found.st_mtime
    insides = {(found.st_dev, found.st_ino)}
    protected = keeps is not None and keeps(shown)
    if stat.S_ISDIR(found.st_mode):
        size = size if allocated else 0
        try:
            handle = files.open_folder(name, parent)
        except OSError as error:
            complain(shown, error.strerror or str(error))
            return None
        newest = 0.0
        try:
            for folder in walk(handle, lambda path, why: complain(f"{shown}/{path}", why)):
                breathe()
                inner_path = f"{shown}/{folder.path}/" if folder.path else f"{shown}/"
                if folder.path and allocated:
                    size += files.about(folder.handle).st_blocks * 512
                for inner_name, inner in folder.files:
                    newest = max(newest, inner.st_mtime)
                    protected = protected or (keeps is not None and keeps(inner_path + inner_name))
                    seal = (inner.st_dev, inner.st_ino)
                    if seal not in insides:
                        insides.add(seal)
                        size += inner.st_blocks * 512 if allocated else inner.st_size
        finally:
            files.close(handle)
    return Seen(
        path=name,
        size=size,
        aged_from=int(newest or found.st_mtime),
        device=found.st_dev,
        file=found.st_ino,
        # a folder's own length says nothing; its contents' sum does
        apparent=size if stat.S_ISDIR(found.st_mode) else found.st_size,
        modified_ns=int((newest or found.st_mtime) * 1e9)
        if stat.S_ISDIR(found.st_mode)
        else found.st_mtime_ns,
        insides=frozenset(insides),
        protected=protected,
        is_link=stat.S_ISLNK(found.st_mode),
    )
