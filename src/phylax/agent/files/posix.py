"""Files by open folders on POSIX systems: every call takes the handle of the folder it means."""

from __future__ import annotations

import ctypes
import errno
import os
import stat
from collections.abc import Iterator
from contextlib import suppress
from functools import cache

Entries = list[tuple[str, os.stat_result]]

_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0) | getattr(os, "O_NOFOLLOW", 0) | os.O_CLOEXEC
_WAY = getattr(os, "O_PATH", os.O_RDONLY) | _FOLDER
"""To go through a folder one need not be allowed to list it."""
_NOREPLACE = 1
"""RENAME_NOREPLACE of renameat2(2)."""


def open_top(path: str) -> int:
    """A handle on a folder by its whole real path, of which no part may be a link."""
    *above, last = [name for name in path.split("/") if name] or ["."]
    handle = os.open("/", _WAY)
    try:
        for name in above:
            inner = os.open(name, _WAY, dir_fd=handle)
            os.close(handle)
            handle = inner
        return os.open(last, _FOLDER, dir_fd=handle)
    finally:
        os.close(handle)


def open_folder(name: str, parent: int) -> int:
    """A handle on a folder in an open one, never through a link."""
    return os.open(name, _FOLDER, dir_fd=parent)


def again(handle: int) -> int:
    """A second handle on the same folder."""
    return os.dup(handle)


def close(handle: int) -> None:
    os.close(handle)


def about(handle: int) -> os.stat_result:
    """What an open folder is."""
    return os.fstat(handle)


def look(name: str, parent: int) -> os.stat_result:
    """What a name in an open folder is; of a link, the link itself."""
    return os.stat(name, dir_fd=parent, follow_symlinks=False)


def entries(handle: int) -> Entries:
    """All names in an open folder with what they are, but what vanished meanwhile."""
    with os.scandir(handle) as found:
        listed = list(found)
    try:
        return [(entry.name, entry.stat(follow_symlinks=False)) for entry in listed]
    except OSError:
        # something vanished, or will not be looked at: the others are worth a slower look
        return list(_those_there(listed))


def _those_there(listed: list[os.DirEntry[str]]) -> Iterator[tuple[str, os.stat_result]]:
    for entry in listed:
        with suppress(OSError):
            yield entry.name, entry.stat(follow_symlinks=False)


def names(handle: int) -> list[str]:
    """All names in an open folder."""
    return os.listdir(handle)


def is_empty(handle: int) -> bool:
    with os.scandir(handle) as found:
        return next(found, None) is None


def read(name: str, parent: int, most: int) -> bytes:
    """The first bytes of a file in an open folder, never through a link."""
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
    file = os.open(name, flags, dir_fd=parent)
    try:
        return os.read(file, most)
    finally:
        os.close(file)


def may_look_into(path: str) -> bool:
    return os.access(path, os.R_OK | os.X_OK)


def is_in_use(error: OSError) -> bool:
    """Whether a deed failed because another program holds the file."""
    return error.errno in (errno.EBUSY, errno.ETXTBSY)


def unlink(name: str, parent: int) -> None:
    os.unlink(name, dir_fd=parent)


def rmdir(name: str, parent: int) -> None:
    os.rmdir(name, dir_fd=parent)


def make_folder(name: str, parent: int, mode: int) -> None:
    os.mkdir(name, mode, dir_fd=parent)


def give(name: str, parent: int, mode: int, user: int, group: int) -> None:
    handle = open_folder(name, parent)
    try:
        with suppress(PermissionError):
            os.fchown(handle, user, group)
        os.fchmod(handle, mode)
    finally:
        os.close(handle)


def move(name: str, parent: int, new_name: str, new_parent: int) -> None:
    """By renameat2(2) with RENAME_NOREPLACE; where the file system knows no such thing, by a name
    reserved beforehand."""
    code = _rename_unless_taken(name, parent, new_name, new_parent)
    if code in (errno.EINVAL, errno.ENOSYS):
        _move_over_reserved(name, parent, new_name, new_parent)
    elif code:
        raise OSError(code, os.strerror(code), name)


@cache
def _renameat2() -> ctypes._NamedFuncPointer | None:
    libc = ctypes.CDLL(None, use_errno=True)
    try:
        call = libc.renameat2
    except AttributeError:
        return None
    call.argtypes = (
        ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_char_p, ctypes.c_uint,
    )  # fmt: skip
    return call


def _rename_unless_taken(name: str, parent: int, new_name: str, new_parent: int) -> int:
    """0 where it is done, else the error number."""
    call = _renameat2()
    if call is None:
        return errno.ENOSYS
    done = call(parent, os.fsencode(name), new_parent, os.fsencode(new_name), _NOREPLACE)
    return 0 if done == 0 else ctypes.get_errno()


def _move_over_reserved(name: str, parent: int, new_name: str, new_parent: int) -> None:
    """A file takes its new name by a second link, or over an empty file made for it; a folder over
    an empty folder made for it, which fails where somebody has put something into it."""
    if stat.S_ISDIR(look(name, parent).st_mode):
        os.mkdir(new_name, 0o700, dir_fd=new_parent)
        try:
            os.rename(name, new_name, src_dir_fd=parent, dst_dir_fd=new_parent)
        except OSError:
            with suppress(OSError):
                os.rmdir(new_name, dir_fd=new_parent)
            raise
        return
    try:
        os.link(name, new_name, src_dir_fd=parent, dst_dir_fd=new_parent, follow_symlinks=False)
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.EMLINK):
            raise
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC
        os.close(os.open(new_name, flags, 0o600, dir_fd=new_parent))
        os.rename(name, new_name, src_dir_fd=parent, dst_dir_fd=new_parent)
    else:
        os.unlink(name, dir_fd=parent)


def append(handle: int, text: bytes) -> bytes:
    """What the volume had no room for is returned."""
    try:
        while text:
            text = text[os.write(handle, text) :]
    except OSError as error:
        if error.errno not in (errno.ENOSPC, errno.EDQUOT):
            raise
    return text


def sync(handle: int) -> None:
    os.fsync(handle)


def sync_folder(handle: int) -> None:
    os.fsync(handle)
