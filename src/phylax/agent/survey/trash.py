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
from phylax.agent.files.walk import Complaint
from phylax.agent.machines import TrashLayout
from phylax.agent.survey.item import Candidate, Keeps, Measure, weigh

_FILETIME_EPOCH = 11_644_473_600
"""Seconds from 1601-01-01, where FILETIME begins, to the Unix epoch."""
_NEVER = 253_402_300_799
"""The last second of the year 9999, the last that calendars know."""


def trashed(
    handle: int,
    layout: TrashLayout,
    measure: Measure,
    complain: Complaint,
    keeps: Keeps | None = None,
    breathe: Callable[[], None] = lambda: None,
) -> Iterator[Candidate]:
    """What waits in an open trash folder; paths are the names that `let_go` takes.

    `keeps` says of a path below the trash folder what in the protect list keeps it.
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
                    candidate = _weigh(
                        name, things, date, measure, complain, keeps, breathe, "files/"
                    )
                    if candidate:
                        yield candidate
            finally:
                files.close(things)
        case "recycle-bin":
            for name in _names(handle, complain):
                if name.startswith("$R"):
                    date = _filetime_of_deletion(handle, "$I" + name[2:])
                    if candidate := _weigh(name, handle, date, measure, complain, keeps, breathe):
                        yield candidate
        case "plain":
            for name in _names(handle, complain):
                if name != ".DS_Store" and (
                    candidate := _weigh(name, handle, None, measure, complain, keeps, breathe)
                ):
                    yield candidate


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
    measure: Measure,
    complain: Complaint,
    keeps: Keeps | None,
    breathe: Callable[[], None],
    below: str = "",
) -> Candidate | None:
    """One entry with the size of all that is in it, aged from its deletion."""
    candidate = weigh(name, parent, measure, complain, keeps, below, breathe)
    if candidate is None:
        return None
    if deleted_at is None:
        # being renamed into the trash touches the entry's change time, not its modification time
        deleted_at = _arrived_at(name, parent, measure)
    elif measure.attributes and not name.startswith("$R"):
        # a note is a claim: a thing is never older in the trash than its own move there; what a
        # move changes of a thing in a recycle bin, no time of it tells
        deleted_at = max(deleted_at, _arrived_at(name, parent, measure))
    return candidate._replace(aged_from=deleted_at)


def _arrived_at(name: str, parent: int, measure: Measure) -> int:
    """When an entry was renamed into the folder it lies in, or changed since."""
    try:
        if not files.is_folder(name, parent):
            of = files.look(name, parent)
        else:
            handle = files.open_folder(name, parent)
            try:
                of = files.about(handle)
            finally:
                files.close(handle)
    except OSError:
        return _NEVER
    return int(of.st_ctime if measure.allocated else of.st_mtime)


def _deletion_date(trash: int, name: str) -> int | None:
    """`DeletionDate` of a trashinfo file: local time, as the specification has it. None where there
    is none, or one that no calendar holds."""
    text = _read(trash, "info", f"{name}.trashinfo", 64 * 1024)
    for line in (text or b"").decode("utf-8", "replace").splitlines():
        key, _, value = line.partition("=")
        if key.strip() == "DeletionDate":
            try:
                return _within_the_calendar(int(datetime.fromisoformat(value.strip()).timestamp()))
            except (ValueError, OverflowError, OSError):
                return None
    return None


def _within_the_calendar(second: int) -> int | None:
    return second if 0 < second < _NEVER else None


def _filetime_of_deletion(trash: int, name: str) -> int | None:
    """The deletion time of an $I file: versions 1 and 2 begin alike."""
    header = _read(trash, "", name, 24)
    if header is None or len(header) < 24:
        return None
    version, _, filetime = struct.unpack("<qqq", header)
    if version not in (1, 2):
        return None
    return _within_the_calendar(filetime // 10_000_000 - _FILETIME_EPOCH)


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
