"""Files by open folders on POSIX systems: every call takes the handle of the folder it means.

On Linux a folder is opened by `openat2` and no step leads across a mount, a bind mount of the same
disk included, nor through a link. Older kernels, and containers that refuse the call, are asked for
the mount's number instead (`mnt_id` in /proc/self/fdinfo, proc(5)).
"""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
import signal
import stat
import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import cache, partial
from itertools import islice

from phylax.core.survey.file_stat import FileStat

Entries = list[tuple[str, FileStat]]

_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0) | getattr(os, "O_NOFOLLOW", 0) | os.O_CLOEXEC
_WAY = getattr(os, "O_PATH", os.O_RDONLY) | _FOLDER
"""To go through a folder one need not be allowed to list it."""
_NOREPLACE = 1
"""RENAME_NOREPLACE of renameat2(2)."""


_OPENAT2 = 437
"""Number of the system call, the same on every architecture (it is newer than their split)."""
_ONE_MOUNT = 0x01 | 0x02 | 0x04 | 0x08
"""RESOLVE_NO_XDEV, _NO_MAGICLINKS, _NO_SYMLINKS and _BENEATH of openat2(2)."""
_AGAIN = 32
"""So often a folder is opened anew that was renamed meanwhile (EAGAIN)."""


class _How(ctypes.Structure):
    """struct open_how of openat2(2)."""

    _fields_ = (
        ("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64),
    )  # fmt: skip


_HOW = _How(_FOLDER | os.O_NONBLOCK, 0, _ONE_MOUNT)


def open_top(path: str) -> int:
    """A handle on a folder by its whole real path, of which no part may be a link. Mounts on the
    way are stepped over: whether they may be, the machine kind has asked beforehand."""
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
    """A handle on a folder in an open one, never through a link and never across a mount (OSError
    EXDEV)."""
    call = _openat2()
    if call is None:
        return _open_by_mount_number(name, parent)
    path = os.fsencode(name)
    for _ in range(_AGAIN):
        handle = call(_OPENAT2, parent, path, ctypes.byref(_HOW), ctypes.sizeof(_How))
        if handle >= 0:
            return int(handle)
        code = ctypes.get_errno()
        if code not in (errno.EAGAIN, errno.EINTR):
            break
    if code == errno.EXDEV:
        raise OSError(code, "something else is mounted there", name)
    raise OSError(code, os.strerror(code), name)


@cache
def _openat2() -> ctypes._NamedFuncPointer | None:
    """The system call, where this system has it and lets us use it."""
    if not sys.platform.startswith("linux"):
        return None
    call = ctypes.CDLL(None, use_errno=True).syscall
    call.restype = ctypes.c_long
    call.argtypes = (
        ctypes.c_long, ctypes.c_int, ctypes.c_char_p, ctypes.c_void_p, ctypes.c_size_t,
    )  # fmt: skip
    root = os.open("/", _FOLDER)
    try:
        handle = call(_OPENAT2, root, b".", ctypes.byref(_HOW), ctypes.sizeof(_How))
        if handle < 0:
            return None
        os.close(handle)
    finally:
        os.close(root)
    return call


def _open_by_mount_number(name: str, parent: int) -> int:
    """The same without the call: O_PATH asks the file system nothing, so a mount that does not
    answer keeps nobody waiting."""
    if "/" in name or name in ("", ".", ".."):
        raise OSError(errno.EXDEV, "not a name in a folder", name)
    way = os.open(name, _WAY, dir_fd=parent)
    try:
        if _mount_number(way) != _mount_number(parent):
            raise OSError(errno.EXDEV, "something else is mounted there", name)
        return os.open(".", _FOLDER, dir_fd=way)
    finally:
        os.close(way)


def _mount_number(handle: int) -> str:
    if not sys.platform.startswith("linux"):
        return str(os.fstat(handle).st_dev)
    with open(f"/proc/self/fdinfo/{handle}", encoding="ascii") as lines:
        return next(line.split()[1] for line in lines if line.startswith("mnt_id:"))


def again(handle: int) -> int:
    """A second handle on the same folder."""
    return os.dup(handle)


def close(handle: int) -> None:
    os.close(handle)


def about(handle: int) -> FileStat:
    """What an open folder is."""
    return os.fstat(handle)


def look(name: str, parent: int) -> FileStat:
    """What a name in an open folder is; of a link, the link itself."""
    return os.stat(name, dir_fd=parent, follow_symlinks=False)


def looker(parent: int) -> Callable[[str], FileStat]:
    """The same for many names in one open folder."""
    return partial(os.stat, dir_fd=parent, follow_symlinks=False)


def portions(handle: int, at_once: int) -> Iterator[tuple[Entries, list[str]]]:
    """An open folder in portions: what can go (files, and links as themselves) with what they are,
    but for what vanished meanwhile; and the names of its folders. Sockets, pipes and devices are
    passed over.

    Kinds come from the listing, so that nothing behind a mount is asked.
    """
    with os.scandir(handle) as entries:
        while listed := list(islice(entries, at_once)):
            folders: list[str] = []
            what_goes = [e for e in listed if e.is_file(follow_symlinks=False)]
            if len(what_goes) != len(listed):
                folders = [e.name for e in listed if e.is_dir(follow_symlinks=False)]
                what_goes += [e for e in listed if e.is_symlink()]
            try:
                plain: Entries = [
                    (entry.name, entry.stat(follow_symlinks=False)) for entry in what_goes
                ]
            except OSError:
                # something vanished, or will not be looked at: the others are worth a slower look
                plain = list(_those_there(what_goes))
            yield plain, folders


def name_portions(handle: int, at_once: int) -> Iterator[tuple[list[str], list[str]]]:
    """The same by name alone: what can go, and folders. Nothing in it is asked what it is."""
    with os.scandir(handle) as entries:
        while listed := list(islice(entries, at_once)):
            folders = [entry.name for entry in listed if entry.is_dir(follow_symlinks=False)]
            yield (
                [
                    entry.name
                    for entry in listed
                    if entry.is_file(follow_symlinks=False) or entry.is_symlink()
                ],
                folders,
            )


def folder_names(handle: int) -> list[str]:
    """The names of the folders in an open folder."""
    with os.scandir(handle) as entries:
        return [entry.name for entry in entries if entry.is_dir(follow_symlinks=False)]


def is_folder(name: str, parent: int) -> bool:
    """Whether a name in an open folder is a folder, mount points included; nothing behind a mount
    is asked."""
    try:
        way = os.open(name, _WAY, dir_fd=parent)
    except OSError:
        return False
    os.close(way)
    return True


def _those_there(listed: list[os.DirEntry[str]]) -> Iterator[tuple[str, FileStat]]:
    for entry in listed:
        with suppress(OSError):
            yield entry.name, entry.stat(follow_symlinks=False)


def look_on_this_mount(name: str, parent: int) -> FileStat | None:
    """What a name in an open folder is, as long as nothing is mounted over it; else None. Nothing
    that is mounted there is asked."""
    call = _openat2()
    how = _How(_WAY & ~os.O_DIRECTORY | os.O_NOFOLLOW, 0, _ONE_MOUNT & ~0x04)
    if call is None:
        return None
    way = call(_OPENAT2, parent, os.fsencode(name), ctypes.byref(how), ctypes.sizeof(_How))
    if way < 0:
        return None
    try:
        return os.fstat(way)
    finally:
        os.close(way)


def names(handle: int) -> list[str]:
    """All names in an open folder."""
    return os.listdir(handle)


def is_empty(handle: int) -> bool:
    with os.scandir(handle) as entries:
        return next(entries, None) is None


def read(name: str, parent: int, most: int) -> bytes:
    """The first bytes of a regular file in an open folder, never through a link, never waiting."""
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC
    file = os.open(name, flags, dir_fd=parent)
    try:
        if not stat.S_ISREG(os.fstat(file).st_mode):
            raise OSError(errno.EINVAL, "not a regular file", name)
        return os.read(file, most)
    finally:
        os.close(file)


def may_look_into(path: str) -> bool:
    return os.access(path, os.R_OK | os.X_OK)


def is_in_use(error: OSError) -> bool:
    """Whether an action failed because another program holds the file."""
    return error.errno in (errno.EBUSY, errno.ETXTBSY)


_LEASES = hasattr(fcntl, "F_SETLEASE")
_KIND = 0o170000
"""Of a file's mode, what kind it is."""
_ALONE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC


def open_looker(parent: int) -> Callable[[str], tuple[FileStat, bool]]:
    """For names in an open folder: what each is, and whether another process holds that file open
    or has it mapped, by asking for a write lease (fcntl(2)): the owner of a file gets one only
    while nobody else has it.

    False where that cannot be told: no regular file, no lease on this file system, or no right to
    open it.
    """
    if not _LEASES:
        return lambda name: (look(name, parent), False)
    _ignore_broken_leases()
    open_file, close_file, about_file, control = os.open, os.close, os.fstat, fcntl.fcntl
    lease, alone = fcntl.F_SETLEASE, fcntl.F_WRLCK

    def look_at(name: str) -> tuple[FileStat, bool]:
        try:
            file = open_file(name, _ALONE, dir_fd=parent)
        except OSError:
            return look(name, parent), False
        try:
            of = about_file(file)
            if of[0] & _KIND != stat.S_IFREG:
                return look(name, parent), False
            # given up again when it is closed
            control(file, lease, alone)
        except OSError as error:
            return of, error.errno in (errno.EAGAIN, errno.EBUSY)
        finally:
            close_file(file)
        return of, False

    return look_at


@cache
def _ignore_broken_leases() -> None:
    """A lease that is broken tells by this signal, whose default would end us."""
    signal.signal(signal.SIGIO, signal.SIG_IGN)


def unlink(name: str, parent: int) -> None:
    os.unlink(name, dir_fd=parent)


def unlinker(parent: int) -> Callable[[str], None]:
    """The same for many names in one open folder."""
    return partial(os.unlink, dir_fd=parent)


def rmdir(name: str, parent: int) -> None:
    os.rmdir(name, dir_fd=parent)


def make_folder(name: str, parent: int, mode: int) -> None:
    os.mkdir(name, mode, dir_fd=parent)


def give(name: str, parent: int, mode: int, user: int, group: int) -> None:
    """Make a folder somebody's, with a mode. Where its group cannot be given, none is let in: what
    one group was to see is not shown to another."""
    handle = open_folder(name, parent)
    try:
        with suppress(PermissionError):
            os.fchown(handle, user, group)
        if os.fstat(handle).st_gid != group:
            mode &= ~(stat.S_ISGID | stat.S_IRWXG)
        os.fchmod(handle, mode)
    finally:
        os.close(handle)


def move(name: str, parent: int, new_name: str, new_parent: int) -> None:
    """By renameat2(2) with RENAME_NOREPLACE; where the file system knows no such thing, by a name
    reserved beforehand."""
    mover(parent, new_parent)(name, new_name)


def mover(parent: int, new_parent: int) -> Callable[[str, str], None]:
    """The same for many names of one open folder that go to another."""
    call, encode = _renameat2(), os.fsencode

    def rename(name: str, new_name: str) -> None:
        done = call and call(parent, encode(name), new_parent, encode(new_name), _NOREPLACE)
        if done == 0:
            return
        code = errno.ENOSYS if done is None else ctypes.get_errno()
        if code not in (errno.EINVAL, errno.ENOSYS):
            raise OSError(code, os.strerror(code), name)
        _move_over_reserved(name, parent, new_name, new_parent)

    return rename


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
    """The length along with the bytes, where that is new; other times not."""
    getattr(os, "fdatasync", os.fsync)(handle)


def sync_folder(handle: int) -> None:
    os.fsync(handle)
