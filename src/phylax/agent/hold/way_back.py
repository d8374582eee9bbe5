"""The way by which a held thing came, noted folder by folder, and gone back.

Each folder on the way must be what it was, of the same owner and no more open to others: what is
put back is for nobody else to read.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator, Sequence

from phylax.agent import files
from phylax.agent.survey.places import Place
from phylax.core.survey.file_stat import FileStat

_LONGEST_NAME = 255
"""Bytes of a name on most file systems."""


def way_to(place: Place, folders: Sequence[str]) -> list[tuple[int, int, int]]:
    """Mode and owner of a place's root and of every folder below it on the way."""
    chain = []
    handle = files.open_top(place.root)
    try:
        for name in (*place.below, *folders, None):
            of = files.about(handle)
            chain.append((stat.S_IMODE(of.st_mode), of.st_uid, of.st_gid))
            if name is not None:
                inner = files.open_folder(name, handle)
                files.close(handle)
                handle = inner
    finally:
        files.close(handle)
    return chain


def open_way_back(
    root: str,
    folders: Sequence[str],
    chain: Sequence[tuple[int, int, int]],
    *,
    beside: bool = False,
) -> int:
    """A handle on the folder a thing lay in; what is missing of the way is made again.

    A folder that others made or opened in the meantime would show what was hidden from them: it is
    gone past where the thing is to be put `beside`, else PermissionError.
    """
    handle = _top_back(root, chain[0], beside=beside)
    try:
        for name, step in zip(folders, chain[1:], strict=False):
            inner = _step_back(handle, name, step, beside=beside)
            files.close(handle)
            handle = inner
    except BaseException:
        files.close(handle)
        raise
    return handle


def _top_back(root: str, step: tuple[int, int, int], *, beside: bool) -> int:
    """A handle on the place itself, which may be the top of a volume."""
    if os.path.ismount(root):
        handle = files.open_top(root)
        if why := _why_open(files.about(handle), step[0], step[1]):
            files.close(handle)
            raise PermissionError(errno.EACCES, why, root)
        return handle
    above = files.open_top(os.path.dirname(root))
    try:
        return _step_back(above, os.path.basename(root), step, beside=beside)
    finally:
        files.close(above)


def _step_back(parent: int, name: str, step: tuple[int, int, int], *, beside: bool) -> int:
    """A handle on one folder of the way, which is as it was or is made as it was."""
    mode, user, group = step
    for other in names_beside(name) if beside else [name]:
        try:
            inner = files.open_folder(other, parent)
        except FileNotFoundError:
            files.make_folder(other, parent, mode)
            files.give(other, parent, mode, user, group)
            return files.open_folder(other, parent)
        except OSError:
            # no folder any more
            if beside:
                continue
            raise
        if not (why := _why_open(files.about(inner), mode, user)):
            return inner
        files.close(inner)
    raise PermissionError(errno.EACCES, why, name)


def _why_open(of: FileStat, mode: int, user: int) -> str:
    """Why a folder would show more than the one that was there; empty: it does not."""
    if of.st_uid != user:
        return "its folder is somebody else's by now: put it back beside"
    if stat.S_IMODE(of.st_mode) & ~mode & 0o077:
        return "others may look into its folder by now: put it back beside"
    return ""


def names_beside(name: str) -> Iterator[str]:
    """The name itself, then others that tell where it came from."""
    yield name
    stem, ending = os.path.splitext(name)
    for mark in (" (put back)", *(f" (put back {number})" for number in range(2, 100))):
        yield _fitting(stem, f"{mark}{ending}")


def _fitting(stem: str, end: str) -> str:
    """A stem, as much of it as fits into a name with its end."""
    if len(os.fsencode(end)) > _LONGEST_NAME // 2:
        stem, end = stem + end, " (put back)"
    while stem and len(os.fsencode(stem + end)) > _LONGEST_NAME:
        stem = stem[:-1]
    return stem + end
