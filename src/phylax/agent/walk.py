"""Walking a tree by directory handles: links are never followed, the volume is never left.

Every folder is opened relative to the handle of the one above it, so that a link planted between
look and deed leads nowhere.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Set
from contextlib import suppress
from typing import NamedTuple

from phylax.agent.places import open_folder

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
    device = os.fstat(root).st_dev
    frames = [_frame(os.dup(root), -1, "", "", complain)]
    try:
        if not bottom_up:
            yield frames[0].folder
        while frames:
            frame = frames[-1]
            name = next(frame.folders, None)
            if name is None:
                if bottom_up:
                    yield frame.folder
                os.close(frames.pop().handle)
                continue
            if leave is not None and leave(name):
                continue
            path = f"{frame.path}/{name}" if frame.path else name
            try:
                handle = open_folder(name, frame.handle)
            except OSError as error:
                if not isinstance(error, FileNotFoundError):
                    complain(path, error.strerror or str(error))
                continue
            found = os.fstat(handle)
            if found.st_dev != device or (skip and (found.st_dev, found.st_ino) in skip):
                os.close(handle)
                continue
            frames.append(_frame(handle, frame.handle, name, path, complain))
            if not bottom_up:
                yield frames[-1].folder
    finally:
        for frame in frames:
            os.close(frame.handle)


def _frame(handle: int, parent: int, name: str, path: str, complain: Complaint) -> _Frame:
    files: list[tuple[str, os.stat_result]] = []
    folders: list[str] = []
    try:
        with os.scandir(handle) as entries:
            files, folders = _sort_out(list(entries))
    except OSError as error:
        complain(path, error.strerror or str(error))
    folder = Folder(handle, parent, name, path, files, os.fstat(handle).st_mtime)
    return _Frame(handle, path, iter(folders), folder)


def _sort_out(
    entries: list[os.DirEntry[str]],
) -> tuple[list[tuple[str, os.stat_result]], list[str]]:
    """The files and the folders of one folder: one system call for each, and little else."""
    try:
        found = [(entry.name, entry.stat(follow_symlinks=False)) for entry in entries]
    except OSError:
        # something vanished meanwhile, or will not be looked at: the others are worth a slower look
        found = list(_those_there(entries))
    odd = [one for one in found if one[1].st_mode & _KIND != _REGULAR]
    if not odd:
        return found, []
    folders = [name for name, of in odd if of.st_mode & _KIND == _FOLDER]
    return [one for one in found if one[1].st_mode & _KIND in (_REGULAR, _LINK)], folders


def _those_there(
    entries: list[os.DirEntry[str]],
) -> Iterator[tuple[str, os.stat_result]]:
    for entry in entries:
        with suppress(OSError):
            yield entry.name, entry.stat(follow_symlinks=False)


def remove_tree(name: str, parent: int, complain: Complaint) -> bool:
    """Remove a file, a link or a whole folder in an open one; True when nothing of it is left."""
    if not _is_folder(name, parent):
        return _remove(os.unlink, name, parent, name, complain)
    try:
        handle = open_folder(name, parent)
    except OSError as error:
        complain(name, error.strerror or str(error))
        return False
    whole = True
    try:
        for folder in walk(
            handle, lambda path, why: complain(f"{name}/{path}", why), bottom_up=True
        ):
            for file, _ in folder.files:
                shown = f"{name}/{folder.path}/{file}"
                whole &= _remove(os.unlink, file, folder.handle, shown, complain)
            if folder.path:
                shown = f"{name}/{folder.path}"
                whole &= _remove(os.rmdir, folder.name, folder.parent, shown, complain)
    finally:
        os.close(handle)
    return _remove(os.rmdir, name, parent, name, complain) and whole


def _remove(
    deed: Callable[..., None], name: str, parent: int, shown: str, complain: Complaint
) -> bool:
    try:
        deed(name, dir_fd=parent)
    except FileNotFoundError:
        return True
    except OSError as error:
        complain(shown, error.strerror or str(error))
        return False
    return True


def _is_folder(name: str, parent: int) -> bool:
    try:
        return stat.S_ISDIR(os.stat(name, dir_fd=parent, follow_symlinks=False).st_mode)
    except OSError:
        return False
