"""Walking a tree by directory handles: links are never followed, the volume is never left.

Every folder is opened relative to the handle of the one above it, so that a link planted between
look and deed leads nowhere.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Set
from typing import NamedTuple

from phylax.agent import files as system

_KIND, _REGULAR, _LINK, _FOLDER = 0o170000, stat.S_IFREG, stat.S_IFLNK, stat.S_IFDIR

Complaint = Callable[[str, str], None]
"""Called with a path below the walk's root and why it could not be read."""


class Folder(NamedTuple):
    """One folder of a walk. The handle is open only until the walk goes on."""

    handle: int
    parent: int
    """Handle of the folder above; -1 for the walk's root."""
    name: str
    path: str
    """Below the walk's root, with '/' between names; empty for the root itself."""
    files: list[tuple[str, os.stat_result]]
    changed: float
    """When the folder itself was last changed, before the walk's owner touched it."""


class _Frame(NamedTuple):
    handle: int
    path: str
    folders: Iterator[str]
    folder: Folder


def walk(
    root: int,
    complain: Complaint,
    *,
    bottom_up: bool = False,
    skip: Set[tuple[int, int]] = frozenset(),
    leave: Callable[[str], object] | None = None,
) -> Iterator[Folder]:
    """Every folder of a tree, given an open handle on its root, which stays open.

    Files are what can go: regular files and links (as themselves). Sockets, pipes and devices are
    passed over. Top down by default; bottom up gives a folder after all that lie in it. Folders in
    `skip`, by (device, file number), and those whose name `leave` accepts are not entered.
    """
    device = system.about(root).st_dev
    frames = [_frame(system.again(root), -1, "", "", complain)]
    try:
        if not bottom_up:
            yield frames[0].folder
        while frames:
            frame = frames[-1]
            name = next(frame.folders, None)
            if name is None:
                if bottom_up:
                    yield frame.folder
                system.close(frames.pop().handle)
                continue
            if leave is not None and leave(name):
                continue
            path = f"{frame.path}/{name}" if frame.path else name
            try:
                handle = system.open_folder(name, frame.handle)
            except OSError as error:
                if not isinstance(error, FileNotFoundError):
                    complain(path, error.strerror or str(error))
                continue
            found = system.about(handle)
            if found.st_dev != device or (skip and (found.st_dev, found.st_ino) in skip):
                system.close(handle)
                continue
            frames.append(_frame(handle, frame.handle, name, path, complain))
            if not bottom_up:
                yield frames[-1].folder
    finally:
        for frame in frames:
            system.close(frame.handle)


def _frame(handle: int, parent: int, name: str, path: str, complain: Complaint) -> _Frame:
    files: list[tuple[str, os.stat_result]] = []
    folders: list[str] = []
    try:
        files, folders = _sort_out(system.entries(handle))
    except OSError as error:
        complain(path, error.strerror or str(error))
    folder = Folder(handle, parent, name, path, files, system.about(handle).st_mtime)
    return _Frame(handle, path, iter(folders), folder)


def _sort_out(
    found: system.Entries,
) -> tuple[list[tuple[str, os.stat_result]], list[str]]:
    """The files and the folders of one folder."""
    odd = [one for one in found if one[1].st_mode & _KIND != _REGULAR]
    if not odd:
        return found, []
    folders = [name for name, of in odd if of.st_mode & _KIND == _FOLDER]
    return [one for one in found if one[1].st_mode & _KIND in (_REGULAR, _LINK)], folders


def remove_tree(
    name: str, parent: int, complain: Complaint, breathe: Callable[[], None] = lambda: None
) -> bool:
    """Remove a file, a link or a whole folder in an open one; True when nothing of it is left.

    `breathe` is called with every folder and every hundred files, and may raise to stop.
    """
    if not _is_folder(name, parent):
        return _remove(system.unlink, name, parent, name, complain)
    try:
        handle = system.open_folder(name, parent)
    except OSError as error:
        complain(name, error.strerror or str(error))
        return False
    whole = True
    try:
        for folder in walk(
            handle, lambda path, why: complain(f"{name}/{path}", why), bottom_up=True
        ):
            breathe()
            for number, (file, _) in enumerate(folder.files, 1):
                if number % 100 == 0:
                    breathe()
                shown = f"{name}/{folder.path}/{file}"
                whole &= _remove(system.unlink, file, folder.handle, shown, complain)
            if folder.path:
                shown = f"{name}/{folder.path}"
                whole &= _remove(system.rmdir, folder.name, folder.parent, shown, complain)
    finally:
        system.close(handle)
    return _remove(system.rmdir, name, parent, name, complain) and whole


def _remove(
    deed: Callable[..., None], name: str, parent: int, shown: str, complain: Complaint
) -> bool:
    try:
        deed(name, parent)
    except FileNotFoundError:
        return True
    except OSError as error:
        complain(shown, error.strerror or str(error))
        return False
    return True


def _is_folder(name: str, parent: int) -> bool:
    try:
        return stat.S_ISDIR(system.look(name, parent).st_mode)
    except OSError:
        return False
