"""Walking a tree by directory handles: links are never followed, no mount is ever entered.

What it may not assume: that a name means the same twice, that one device is one volume, that a
mount answers, that a folder is small or shallow. So each folder is opened by one name in the handle
of the one above; kinds come from the listing; a folder streams in portions, however large it is;
and what lies deeper than `DEEPEST` is left and named.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Set
from dataclasses import dataclass
from typing import Generic, NamedTuple, TypeVar

from phylax.agent import files as system
from phylax.agent.files.arrivals import Arrivals
from phylax.core.survey.file_stat import FileStat

DEEPEST = 256
"""Folders below one another; each costs handles."""
AT_ONCE = 1000
"""Names in one portion of a folder."""

Complaint = Callable[[str, str], None]
"""Called with a path below the walk's root and why it could not be read."""
Barrier = Callable[[str, FileStat], str | None]
"""Asked of each folder by its path and what it is: why it is not entered; None: it is. An empty
reason is not complained of."""
Entry = TypeVar("Entry")
_NO_ARRIVALS = Arrivals()


class Folder(NamedTuple):
    """A portion of one folder of a walk. The handle is open only until the walk goes on."""

    handle: int
    parent: int
    """Handle of the folder above; -1 for the walk's root."""
    name: str
    path: str
    """Below the walk's root, with '/' between names; empty for the root itself."""
    files: list[tuple[str, FileStat]]
    about: FileStat
    """What the folder itself was, before the walk's owner touched it."""
    arrived: int
    """Epoch second since which it surely has lain where it lies (`arrivals`)."""


class Names(NamedTuple):
    """The same without a look at the files: their names, to be looked at one by one at the
    action."""

    handle: int
    parent: int
    name: str
    path: str
    names: list[str]
    about: FileStat
    arrived: int
    left: bool
    """The walk leaves the folder, and all that lies in it has been gone through."""


@dataclass
class _Frame(Generic[Entry]):
    handle: int
    name: str
    path: str
    about: FileStat
    arrived: int
    portions: Iterator[tuple[list[Entry], list[str]]]
    folders: list[str]
    """Of the last portion, those not yet entered."""


def walk(
    root: int,
    complain: Complaint,
    *,
    skip: Set[tuple[int, int]] = frozenset(),
    leave: Callable[[str], object] | None = None,
    barrier: Barrier | None = None,
    arrivals: Arrivals = _NO_ARRIVALS,
    not_at_top: str = "",
) -> Iterator[Folder]:
    """Every folder of a tree in portions, given an open handle on its root, which stays open.

    Files are what can go: regular files and links (as themselves). Folders in `skip`, by (device,
    file number), and those whose name `leave` accepts are not entered; nor, directly in the root,
    those whose name begins with `not_at_top`, which may be made while the walk goes on.
    """
    steps = _steps(root, system.portions, complain, skip, leave, barrier, arrivals, not_at_top)
    for frame, parent, files in steps:
        if files is not None:
            yield Folder(
                frame.handle, parent, frame.name, frame.path, files, frame.about, frame.arrived
            )


def sweep(
    root: int,
    complain: Complaint,
    *,
    skip: Set[tuple[int, int]] = frozenset(),
    leave: Callable[[str], object] | None = None,
    barrier: Barrier | None = None,
    arrivals: Arrivals = _NO_ARRIVALS,
    not_at_top: str = "",
) -> Iterator[Names]:
    """The same for who removes what is walked over: names in portions while the folder is listed,
    and each folder once more when it is left, after all that lay in it."""
    steps = _steps(root, system.name_portions, complain, skip, leave, barrier, arrivals, not_at_top)
    for frame, parent, names in steps:
        yield Names(
            frame.handle, parent, frame.name, frame.path, names or [], frame.about, frame.arrived,
            names is None,
        )  # fmt: skip


def _steps(
    root: int,
    listing: Callable[[int, int], Iterator[tuple[list[Entry], list[str]]]],
    complain: Complaint,
    skip: Set[tuple[int, int]],
    leave: Callable[[str], object] | None,
    barrier: Barrier | None,
    arrivals: Arrivals,
    not_at_top: str,
) -> Iterator[tuple[_Frame[Entry], int, list[Entry] | None]]:
    """(folder, handle of the one above, a portion of what lies in it); None: it is left now."""

    def frame_of(handle: int, name: str, path: str, about: FileStat, arrived: int) -> _Frame[Entry]:
        return _Frame(handle, name, path, about, arrived, listing(handle, AT_ONCE), [])

    top = system.again(root)
    frames = [frame_of(top, "", "", system.about(top), 0)]
    try:
        while frames:
            frame, parent = frames[-1], frames[-2].handle if len(frames) > 1 else -1
            if not frame.folders:
                try:
                    portion = next(frame.portions, None)
                except OSError as error:
                    complain(frame.path, error.strerror or str(error))
                    portion = None
                if portion is None:
                    yield frame, parent, None
                    system.close(frames.pop().handle)
                    continue
                entries, frame.folders = portion
                if entries:
                    yield frame, parent, entries
                continue
            name = frame.folders.pop()
            if leave is not None and leave(name):
                continue
            if not_at_top and len(frames) == 1 and name.startswith(not_at_top):
                continue
            path = f"{frame.path}/{name}" if frame.path else name
            if len(frames) == DEEPEST:
                complain(path, "lies too deep to be looked at")
                continue
            try:
                handle = system.open_folder(name, frame.handle)
            except OSError as error:
                if not isinstance(error, FileNotFoundError):
                    complain(path, error.strerror or str(error))
                continue
            about = system.about(handle)
            why = None if barrier is None else barrier(path, about)
            if about.st_dev != frame.about.st_dev:
                # no mount, and yet a file system of its own: a snapshot keeps the times of what it
                # was made from, however lately it was made
                why = "a snapshot or subvolume of its own"
            if why:
                complain(path, why)
            if why is not None or (skip and (about.st_dev, about.st_ino) in skip):
                system.close(handle)
                continue
            by_times = min(int(about.st_ctime), int(frame.about.st_ctime))
            since = arrivals.since(about, frame.about, by_times)
            frames.append(frame_of(handle, name, path, about, max(frame.arrived, since)))
    finally:
        for frame in frames:
            system.close(frame.handle)


class Removed(NamedTuple):
    """What became of a tree that was to go."""

    whole: bool
    """Nothing of it is left."""
    files: int
    """Files and links that went, and the bytes they held."""
    size: int


def remove_tree(
    name: str,
    parent: int,
    complain: Complaint,
    breathe: Callable[[], None] = lambda: None,
    *,
    allocated: bool = True,
) -> Removed:
    """Remove anything that has a name in an open folder, a whole folder with all that is in it.

    Goes where nobody else moves names: in the hold. `breathe` is called with every folder and every
    hundred names, and may raise to stop. Sizes are `allocated` blocks or lengths.
    """
    if not system.is_folder(name, parent):
        size, whole = _unlink(name, parent, name, complain, allocated)
        return Removed(whole, int(whole), size)
    try:
        handle = system.open_folder(name, parent)
    except OSError as error:
        complain(name, error.strerror or str(error))
        return Removed(False, 0, 0)
    whole, count, total = True, 0, 0
    try:
        for folder in sweep(handle, lambda path, why: complain(f"{name}/{path}", why)):
            breathe()
            inside = f"{name}/{folder.path}" if folder.path else name
            if folder.left:
                # pipes, sockets and devices are no files that the walk shows, but go all the same
                odd = set() if _is_empty(folder.handle) else set(system.names(folder.handle))
                for other in odd - set(system.folder_names(folder.handle)):
                    _unlink(other, folder.handle, f"{inside}/{other}", complain, allocated)
                if folder.path:
                    whole &= _remove_folder(folder.name, folder.parent, inside, complain)
            for number, file in enumerate(folder.names, 1):
                if number % 100 == 0:
                    breathe()
                size, went = _unlink(file, folder.handle, f"{inside}/{file}", complain, allocated)
                count, total, whole = count + went, total + size, whole and went
    finally:
        system.close(handle)
    return Removed(_remove_folder(name, parent, name, complain) and whole, count, total)


def _is_empty(handle: int) -> bool:
    try:
        return system.is_empty(handle)
    except OSError:
        return True


def _unlink(
    name: str, parent: int, shown: str, complain: Complaint, allocated: bool
) -> tuple[int, bool]:
    """(bytes that came free with a name, whether it is gone)."""
    try:
        of = system.look(name, parent)
        system.unlink(name, parent)
    except FileNotFoundError:
        return 0, True
    except OSError as error:
        complain(shown, error.strerror or str(error))
        return 0, False
    if of.st_nlink > 1:
        return 0, True
    return (of.st_blocks * 512 if allocated else of.st_size), True


def _remove_folder(name: str, parent: int, shown: str, complain: Complaint) -> bool:
    try:
        system.rmdir(name, parent)
    except FileNotFoundError:
        return True
    except OSError as error:
        complain(shown, error.strerror or str(error))
        return False
    return True
