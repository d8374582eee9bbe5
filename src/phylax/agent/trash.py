"""Trash folders as systems lay them out: what waits in them, since when, and letting it go.

`freedesktop`: the freedesktop.org Trash specification 1.0 (files/ and info/*.trashinfo, deletion
dates in local time). `recycle-bin`: pairs of $R… (what was deleted) and $I… (a header: version,
length, FILETIME of deletion, path). `plain`: entries without a date of deletion; their own counts.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Callable, Iterator
from datetime import datetime

from phylax.agent.machines import TrashLayout
from phylax.agent.places import open_folder
from phylax.agent.seen import Seen, weigh
from phylax.agent.walk import Complaint, remove_tree

_FILETIME_EPOCH = 11_644_473_600
"""Seconds from 1601-01-01, where FILETIME begins, to the Unix epoch."""


def trashed(
    handle: int,
    layout: TrashLayout,
    allocated: bool,
    complain: Complaint,
    keeps: Callable[[str], bool] | None = None,
) -> Iterator[Seen]:
    """What waits in an open trash folder; paths are the names that `let_go` takes.

    `keeps` says of a path below the trash folder whether the protect list keeps it.
    """
    match layout:
        case "freedesktop":
            try:
                files = open_folder("files", handle)
            except FileNotFoundError:
                return
            except OSError as error:
                complain("files", error.strerror or str(error))
                return
            try:
                for name in _names(files, complain):
                    date = _deletion_date(handle, name)
                    found = _weigh(name, files, date, allocated, complain, keeps, "files/")
                    if found:
                        yield found
            finally:
                os.close(files)
        case "recycle-bin":
            for name in _names(handle, complain):
                if name.startswith("$R"):
                    date = _filetime_of_deletion(handle, "$I" + name[2:])
                    if found := _weigh(name, handle, date, allocated, complain, keeps):
                        yield found
        case "plain":
            for name in _names(handle, complain):
                if name != ".DS_Store" and (
                    found := _weigh(name, handle, None, allocated, complain, keeps)
                ):
                    yield found


def let_go(handle: int, layout: TrashLayout, name: str, complain: Complaint) -> bool:
    """Remove one deleted thing, then what the trash wrote down about it."""
    match layout:
        case "freedesktop":
            files = open_folder("files", handle)
            try:
                gone = remove_tree(name, files, complain)
            finally:
                os.close(files)
            if gone:
                info = open_folder("info", handle)
                try:
                    remove_tree(f"{name}.trashinfo", info, complain)
                finally:
                    os.close(info)
            return gone
        case "recycle-bin":
            gone = remove_tree(name, handle, complain)
            if gone:
                remove_tree("$I" + name[2:], handle, complain)
            return gone
        case "plain":
            return remove_tree(name, handle, complain)


def _names(handle: int, complain: Complaint) -> list[str]:
    try:
        return sorted(os.listdir(handle))
    except OSError as error:
        complain("", error.strerror or str(error))
        return []


def _weigh(
    name: str,
    parent: int,
    deleted_at: int | None,
    allocated: bool,
    complain: Complaint,
    keeps: Callable[[str], bool] | None,
    below: str = "",
) -> Seen | None:
    """One entry with the size of all that is in it, aged from its deletion."""
    seen = weigh(name, parent, allocated, complain, keeps, below)
    if seen is None:
        return None
    found = os.stat(name, dir_fd=parent, follow_symlinks=False)
    if deleted_at is None:
        # being renamed into the trash touches the entry's change time, not its modification time
        deleted_at = int(found.st_ctime if allocated else found.st_mtime)
    return seen._replace(
        aged_from=deleted_at, apparent=found.st_size, modified_ns=found.st_mtime_ns
    )


def _deletion_date(trash: int, name: str) -> int | None:
    """`DeletionDate` of a trashinfo file: local time, as the specification has it."""
    text = _read(trash, "info", f"{name}.trashinfo", 64 * 1024)
    for line in (text or b"").decode("utf-8", "replace").splitlines():
        key, _, value = line.partition("=")
        if key.strip() == "DeletionDate":
            try:
                return int(datetime.fromisoformat(value.strip()).timestamp())
            except ValueError:
                return None
    return None


def _filetime_of_deletion(trash: int, name: str) -> int | None:
    """The deletion time of an $I file: versions 1 and 2 begin alike."""
    header = _read(trash, "", name, 24)
    if header is None or len(header) < 24:
        return None
    version, _, filetime = struct.unpack("<qqq", header)
    return filetime // 10_000_000 - _FILETIME_EPOCH if version in (1, 2) else None


def _read(trash: int, folder: str, name: str, most: int) -> bytes | None:
    try:
        parent = open_folder(folder, trash) if folder else os.dup(trash)
    except OSError:
        return None
    try:
        file = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK, dir_fd=parent)
    except OSError:
        return None
    finally:
        os.close(parent)
    try:
        return os.read(file, most)
    finally:
        os.close(file)
