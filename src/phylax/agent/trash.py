"""Trash folders as systems lay them out: what waits in them, since when, and letting it go.

`freedesktop`: the freedesktop.org Trash specification 1.0 (files/ and info/*.trashinfo, deletion
dates in local time). `recycle-bin`: pairs of $R… (what was deleted) and $I… (a header: version,
length, FILETIME of deletion, path). `plain`: entries without a date of deletion; their own counts.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from datetime import datetime

from phylax.agent import files
from phylax.agent.machines import TrashLayout
from phylax.agent.places import deeper
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
    breathe: Callable[[], None] = lambda: None,
) -> Iterator[Seen]:
    """What waits in an open trash folder; paths are the names that `let_go` takes.

    `keeps` says of a path below the trash folder whether the protect list keeps it.
    """
    match layout:
        case "freedesktop":
            try:
                things = files.open_folder("files", handle)
            except FileNotFoundError:
                return
            except OSError as error:
                complain("files", error.strerror or str(error))
                return
            try:
                for name in _names(things, complain):
                    date = _deletion_date(handle, name)
                    found = _weigh(
                        name, things, date, allocated, complain, keeps, breathe, "files/"
                    )
                    if found:
                        yield found
            finally:
                files.close(things)
        case "recycle-bin":
            for name in _names(handle, complain):
                if name.startswith("$R"):
                    date = _filetime_of_deletion(handle, "$I" + name[2:])
                    if found := _weigh(name, handle, date, allocated, complain, keeps, breathe):
                        yield found
        case "plain":
            for name in _names(handle, complain):
                if name != ".DS_Store" and (
                    found := _weigh(name, handle, None, allocated, complain, keeps, breathe)
                ):
                    yield found


def thing_folder(layout: TrashLayout) -> str:
    """Below a trash folder, where the deleted things lie; empty for the trash folder itself."""
    return "files" if layout == "freedesktop" else ""


def companion_of(layout: TrashLayout, name: str) -> tuple[tuple[str, ...], str] | None:
    """The folders below a trash folder, and the name, of what it wrote down about a thing."""
    match layout:
        case "freedesktop":
            return ("info",), f"{name}.trashinfo"
        case "recycle-bin":
            return (), "$I" + name[2:]
        case "plain":
            return None


def let_go(
    handle: int,
    layout: TrashLayout,
    name: str,
    complain: Complaint,
    breathe: Callable[[], None] = lambda: None,
) -> bool:
    """Remove one deleted thing, then what the trash wrote down about it."""
    below = thing_folder(layout)
    things = files.open_folder(below, handle) if below else files.again(handle)
    try:
        gone = remove_tree(name, things, complain, breathe)
    finally:
        files.close(things)
    note = companion_of(layout, name)
    if gone and note is not None:
        try:
            beside = deeper(files.again(handle), note[0])
        except FileNotFoundError:
            return gone
        try:
            remove_tree(note[1], beside, complain)
        finally:
            files.close(beside)
    return gone


def _names(handle: int, complain: Complaint) -> list[str]:
    try:
        return sorted(files.names(handle))
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
    breathe: Callable[[], None],
    below: str = "",
) -> Seen | None:
    """One entry with the size of all that is in it, aged from its deletion."""
    seen = weigh(name, parent, allocated, complain, keeps, below, breathe)
    if seen is None:
        return None
    found = files.look(name, parent)
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
        parent = files.open_folder(folder, trash) if folder else files.again(trash)
    except OSError:
        return None
    try:
        return files.read(name, parent, most)
    except OSError:
        return None
    finally:
        files.close(parent)
