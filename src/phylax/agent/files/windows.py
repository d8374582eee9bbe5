"""Files by open folders on Windows: every name is opened relative to its folder's handle.

By the native interface that Windows documents for this (NtCreateFile with a root directory,
NtQueryDirectoryFile, NtSetInformationFile), since the Win32 calls take whole paths only. Junctions,
links and other reparse points are never followed, entered, moved or removed: they are passed over.
"""

from __future__ import annotations

import ctypes
import errno
import msvcrt
import ntpath
import os
import stat
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from ctypes import wintypes
from itertools import islice
from typing import NamedTuple

from phylax.agent.files import windows_native as native
from phylax.core.survey.file_stat import FileStat

assert sys.platform == "win32"


class WindowsStat(NamedTuple):
    """What a name is, in the order and with the names of `os.stat_result`."""

    st_mode: int
    st_ino: int
    st_dev: int
    st_nlink: int
    st_uid: int
    st_gid: int
    st_size: int
    st_atime: int
    st_mtime: int
    st_ctime: int
    st_mtime_ns: int
    st_blocks: int
    st_birthtime: int
    st_ctime_ns: int
    """When its attributes or its place were last changed, by the listing of its folder."""


Entries = list[tuple[str, FileStat]]


# --- opening ---------------------------------------------------------------------------------


def open_top(path: str) -> int:
    """A handle on a folder by its whole real path, of which no part may be a link."""
    drive, below = ntpath.splitdrive(ntpath.abspath(path))
    handle = _open_drive(f"{drive}\\")
    *above, last = [name for name in below.split("\\") if name] or [""]
    try:
        for name in above:
            inner = _only_folder(_open(name, handle, native.THROUGH, native.FOLDER_ONLY), name)
            close(handle)
            handle = inner
        return open_folder(last, handle) if last else again(handle)
    finally:
        close(handle)


def _open_drive(path: str) -> int:
    handle = native.kernel32.CreateFileW(
        _long(path), native.LIST | native.READ_ATTRIBUTES | native.SYNCHRONIZE,
        native.SHARE_ALL, None, 3, 0x02000000 | 0x00200000, None,
    )  # fmt: skip
    if handle in (None, wintypes.HANDLE(-1).value):
        raise ctypes.WinError(ctypes.get_last_error())
    return _only_folder(int(handle), path)


def open_folder(name: str, parent: int) -> int:
    """A handle on a folder in an open one, never through a link."""
    if stat.S_ISLNK(look(name, parent).st_mode):
        raise OSError(errno.ELOOP, "a link or junction, which is never followed", name)
    access = native.LIST | native.ADD | native.READ_ATTRIBUTES | native.SYNCHRONIZE
    try:
        handle = _open(name, parent, access, native.FOLDER_ONLY)
    except PermissionError:
        handle = _open(name, parent, access & ~native.ADD | native.LIST, native.FOLDER_ONLY)
    return _only_folder(handle, name)


def _only_folder(handle: int, name: str) -> int:
    st = about(handle)
    if stat.S_ISDIR(st.st_mode):
        return handle
    close(handle)
    if stat.S_ISLNK(st.st_mode):
        raise OSError(errno.ELOOP, "a link or junction, which is never followed", name)
    raise NotADirectoryError(errno.ENOTDIR, "not a folder", name)


def again(handle: int) -> int:
    """A second handle on the same folder."""
    ours, second = native.kernel32.GetCurrentProcess(), wintypes.HANDLE()
    if not native.kernel32.DuplicateHandle(ours, handle, ours, ctypes.byref(second), 0, False, 2):
        raise ctypes.WinError(ctypes.get_last_error())
    return int(second.value or 0)


def close(handle: int) -> None:
    native.kernel32.CloseHandle(handle)


def _open(
    name: str, parent: int, access: int, options: int, how: int = native.OPEN, attributes: int = 0
) -> int:
    """A handle on one name in an open folder, exactly as it is spelt but for its case.

    OSError where the name is more than one, or a stream of a file.
    """
    if not name or any(sign in name for sign in "\\/:\0"):
        raise FileNotFoundError(errno.ENOENT, "not a name in a folder", name)
    return _open_relative(name, parent, access, options, how, attributes)


def _open_relative(
    name: str, parent: int, access: int, options: int, how: int = native.OPEN, attributes: int = 0
) -> int:
    """The same; an empty name opens the folder itself once more."""
    buffer = ctypes.create_unicode_buffer(name)
    length = len(name.encode("utf-16-le", "surrogatepass"))
    text = native.UnicodeString(length, length + 2, ctypes.cast(buffer, wintypes.LPWSTR))
    what = native.ObjectAttributes(
        ctypes.sizeof(native.ObjectAttributes),
        parent,
        ctypes.pointer(text),
        native.CASE_INSENSITIVE,
        None,
        None,
    )
    handle, status = wintypes.HANDLE(), native.IoStatus()
    code = native.ntdll.NtCreateFile(
        ctypes.byref(handle), wintypes.ULONG(access), ctypes.byref(what), ctypes.byref(status),
        None, wintypes.ULONG(attributes), wintypes.ULONG(native.SHARE_ALL), wintypes.ULONG(how),
        wintypes.ULONG(options | native.SYNCHRONOUS | native.FOR_BACKUP | native.THE_LINK_ITSELF),
        None, wintypes.ULONG(0),
    )  # fmt: skip
    if code:
        raise _error(code, name)
    return int(handle.value or 0)


@contextmanager
def _opened(name: str, parent: int, access: int, options: int = 0) -> Iterator[int]:
    """A name opened for an action; OSError ELOOP where it is a link or junction."""
    handle = _open(name, parent, access | native.READ_ATTRIBUTES | native.SYNCHRONIZE, options)
    try:
        if stat.S_ISLNK(about(handle).st_mode):
            raise OSError(errno.ELOOP, "a link or junction, which is left alone", name)
        yield handle
    finally:
        close(handle)


def _error(status: int, name: str) -> OSError:
    code = int(native.ntdll.RtlNtStatusToDosError(status))
    return OSError(None, ctypes.FormatError(code), name, code)


def _long(path: str) -> str:
    r"""A whole path of any length, as it is: with the prefix that switches all rewriting off."""
    path = ntpath.abspath(path)
    if path.startswith("\\\\?\\"):
        return path
    return f"\\\\?\\UNC\\{path[2:]}" if path.startswith("\\\\") else f"\\\\?\\{path}"


# --- looking ---------------------------------------------------------------------------------


def about(handle: int) -> WindowsStat:
    """What an open folder or file is."""
    info = native.ByHandle()
    if not native.kernel32.GetFileInformationByHandle(handle, ctypes.byref(info)):
        raise ctypes.WinError(ctypes.get_last_error())
    size = info.size_high << 32 | info.size_low
    return _stat_of(
        info.attributes, info.index_high << 32 | info.index_low, info.volume, info.links, size,
        size, _time(info.accessed), _time(info.written), _time(info.created),
        _time(info.written),
    )  # fmt: skip


def _time(moment: wintypes.FILETIME) -> int:
    return int(moment.dwHighDateTime << 32 | moment.dwLowDateTime)


def _stat_of(
    attributes: int, number: int, volume: int, links: int, size: int, allocated: int,
    accessed: int, written: int, created: int, changed: int,
) -> WindowsStat:  # fmt: skip
    if attributes & native.IS_REPARSE:
        mode = stat.S_IFLNK
    else:
        mode = (stat.S_IFDIR if attributes & native.IS_FOLDER else stat.S_IFREG) | 0o700
    modified = (written - native.EPOCH) * 100
    # a file that was copied with its times, or unpacked, was created when it came; when a folder
    # was moved to where it lies, no time of it tells for certain
    came = 0 if attributes & native.IS_FOLDER else (max(written, created) - native.EPOCH) // 10**7
    return WindowsStat(
        mode, number, volume, links, 0, 0, size, (accessed - native.EPOCH) // 10**7,
        modified // 10**9, came, modified,
        (allocated + 511) // 512, (created - native.EPOCH) // 10**7, (changed - native.EPOCH) * 100,
    )  # fmt: skip


def look(name: str, parent: int) -> WindowsStat:
    """What a name in an open folder is; of a link, the link itself."""
    for entry_name, st in _query(parent, name):
        if entry_name.lower() == name.lower():
            return st
    raise FileNotFoundError(errno.ENOENT, "there is no such file", name)


def portions(handle: int, at_once: int) -> Iterator[tuple[Entries, list[str]]]:
    """An open folder in portions: its files with what they are, and the names of its folders; links
    and junctions are left out."""
    listed = _query(handle)
    while part := list(islice(listed, at_once)):
        folders = [name for name, st in part if stat.S_ISDIR(st.st_mode)]
        yield [(name, st) for name, st in part if stat.S_ISREG(st.st_mode)], folders


def name_portions(handle: int, at_once: int) -> Iterator[tuple[list[str], list[str]]]:
    """The same by name alone. The whole folder is listed before anything in it goes: what a listing
    under way makes of that is not the same on all versions."""
    for plain, folders in list(portions(handle, at_once)):
        yield [name for name, _ in plain], folders


def folder_names(handle: int) -> list[str]:
    """The names of the folders in an open folder."""
    return [name for name, st in _query(handle) if stat.S_ISDIR(st.st_mode)]


def is_folder(name: str, parent: int) -> bool:
    try:
        return stat.S_ISDIR(look(name, parent).st_mode)
    except OSError:
        return False


def look_on_this_mount(name: str, parent: int) -> WindowsStat | None:
    """What a name in an open folder is; None where it cannot be told."""
    try:
        return look(name, parent)
    except OSError:
        return None


def names(handle: int) -> list[str]:
    """All names in an open folder."""
    return [name for name, _ in _query(handle)]


def is_empty(handle: int) -> bool:
    return next(iter(_query(handle)), None) is None


def _query(handle: int, only: str | None = None) -> Iterator[tuple[str, WindowsStat]]:
    # opened once more, since where a handle is in its listing belongs to the handle
    again_open = _open_relative(
        "", handle, native.LIST | native.READ_ATTRIBUTES | native.SYNCHRONIZE, native.FOLDER_ONLY
    )
    try:
        yield from _list(again_open, only)
    finally:
        close(again_open)


def _list(handle: int, only: str | None) -> Iterator[tuple[str, WindowsStat]]:
    volume = about(handle).st_dev
    buffer = ctypes.create_string_buffer(native.BUFFER)
    wanted = None
    if only is not None:
        if not only or any(sign in only for sign in '\\/:*?"<>|\0'):
            raise FileNotFoundError(errno.ENOENT, "not a name in a folder", only)
        text = ctypes.create_unicode_buffer(only)
        length = len(only.encode("utf-16-le", "surrogatepass"))
        wanted = ctypes.byref(
            native.UnicodeString(length, length + 2, ctypes.cast(text, wintypes.LPWSTR))
        )
    restart = True
    while True:
        status = native.IoStatus()
        code = native.ntdll.NtQueryDirectoryFile(
            wintypes.HANDLE(handle), None, None, None, ctypes.byref(status), buffer,
            wintypes.ULONG(native.BUFFER), native.ID_BOTH_DIRECTORY, wintypes.BOOLEAN(False),
            wanted, wintypes.BOOLEAN(restart),
        )  # fmt: skip
        if code in (native.NO_MORE, native.NO_SUCH_FILE):
            return
        if code:
            raise _error(code, only or "")
        restart = False
        yield from _unpack(buffer, volume)


def _unpack(buffer: ctypes.Array[ctypes.c_char], volume: int) -> Iterator[tuple[str, WindowsStat]]:
    at = 0
    # the name begins right behind the last field, without the padding of the whole
    after = native.Entry.file_id.offset + 8
    while True:
        entry = native.Entry.from_buffer(buffer, at)
        name = buffer.raw[at + after : at + after + entry.name_length].decode(
            "utf-16-le", "surrogatepass"
        )
        if name not in (".", ".."):
            yield name, _stat_of(
                entry.attributes, entry.file_id & 2**64 - 1, volume, 1, entry.size,
                entry.allocated or entry.size, entry.accessed, entry.written, entry.created,
                entry.changed,
            )  # fmt: skip
        if not entry.next:
            return
        at += entry.next


def read(name: str, parent: int, most: int) -> bytes:
    """The first bytes of a file in an open folder, never through a link."""
    with _opened(name, parent, 0x1, native.NO_FOLDER) as handle:
        second = again(handle)
        descriptor = msvcrt.open_osfhandle(second, os.O_RDONLY | os.O_BINARY)
        try:
            return os.read(descriptor, most)
        finally:
            os.close(descriptor)


def may_look_into(path: str) -> bool:
    try:
        handle = open_top(path)
    except OSError:
        return False
    try:
        is_empty(handle)
    except OSError:
        return False
    finally:
        close(handle)
    return True


def looker(parent: int) -> Callable[[str], WindowsStat]:
    return lambda name: look(name, parent)


def is_in_use(error: OSError) -> bool:
    """Whether an action failed because another program holds the file, as the system says."""
    return getattr(error, "winerror", None) in native.IN_USE


def open_looker(parent: int) -> Callable[[str], tuple[WindowsStat, bool]]:
    """What a name is. Whether it is open is not asked: the system itself refuses to delete it."""
    return lambda name: (look(name, parent), False)


# --- actions -----------------------------------------------------------------------------------


def unlink(name: str, parent: int) -> None:
    _remove(name, parent, native.NO_FOLDER)


def unlinker(parent: int) -> Callable[[str], None]:
    return lambda name: unlink(name, parent)


def rmdir(name: str, parent: int) -> None:
    _remove(name, parent, native.FOLDER_ONLY)


def _remove(name: str, parent: int, options: int) -> None:
    """By the handle; what is marked read-only is unmarked first, as its owner could."""
    with _opened(name, parent, native.DELETE, options) as handle:
        code = _set(handle, native.DISPOSITION, ctypes.c_ubyte(1))
    if code == native.CANNOT_DELETE:
        with _opened(name, parent, native.DELETE | native.WRITE_ATTRIBUTES, options) as handle:
            _set(handle, native.BASIC, native.Basic(0, 0, 0, 0, native.IS_NORMAL))
            code = _set(handle, native.DISPOSITION, ctypes.c_ubyte(1))
    if code:
        raise _error(code, name)


def _set(handle: int, what: int, value: ctypes._CData) -> int:
    status = native.IoStatus()
    return int(
        native.ntdll.NtSetInformationFile(
            wintypes.HANDLE(handle), ctypes.byref(status), ctypes.byref(value),
            wintypes.ULONG(ctypes.sizeof(value)), what,
        )
    )  # fmt: skip


def make_folder(name: str, parent: int, mode: int) -> None:
    access = native.LIST | native.READ_ATTRIBUTES | native.SYNCHRONIZE
    close(_open(name, parent, access, native.FOLDER_ONLY, native.CREATE, native.IS_FOLDER))


def move(name: str, parent: int, new_name: str, new_parent: int) -> None:
    if not new_name or any(sign in new_name for sign in "\\/:\0"):
        raise FileNotFoundError(errno.ENOENT, "not a name in a folder", new_name)
    text = new_name.encode("utf-16-le", "surrogatepass")

    class Rename(ctypes.Structure):
        _fields_ = (
            ("replace", wintypes.BOOLEAN),
            ("root", wintypes.HANDLE),
            ("length", wintypes.ULONG),
            ("name", ctypes.c_char * (len(text) + 2)),
        )

    with _opened(name, parent, native.DELETE) as handle:
        rename = Rename(False, new_parent, len(text))
        ctypes.memmove(ctypes.addressof(rename) + Rename.name.offset, text, len(text))
        if code := _set(handle, native.RENAME, rename):
            raise _error(code, new_name)


def mover(parent: int, new_parent: int) -> Callable[[str, str], None]:
    return lambda name, new_name: move(name, parent, new_name, new_parent)


def give(name: str, parent: int, mode: int, user: int, group: int) -> None:
    """A new folder has its rights from the one it is in."""


def append(handle: int, text: bytes) -> bytes:
    """What the volume had no room for is returned."""
    try:
        while text:
            text = text[os.write(handle, text) :]
    except OSError as error:
        if error.errno != errno.ENOSPC:
            raise
    return text


def sync(handle: int) -> None:
    os.fsync(handle)


def sync_folder(handle: int) -> None:
    """The file system sees to its own folders."""
