"""Volumes on Windows: the fixed drives, their space and file systems."""

from __future__ import annotations

import ctypes
import sys
from ctypes import wintypes
from typing import NamedTuple

assert sys.platform == "win32"

_kernel32 = ctypes.WinDLL("kernel32", use_last_error=True)
_kernel32.GetDiskFreeSpaceExW.argtypes = (
    wintypes.LPCWSTR, *(ctypes.POINTER(ctypes.c_uint64),) * 3,
)  # fmt: skip
_FIXED = 3
"""DRIVE_FIXED of GetDriveTypeW."""
_READ_ONLY = 0x00080000


class Volume(NamedTuple):
    drive: str
    """As in 'C:'."""
    name: str
    file_system: str
    capacity: int
    free: int
    identity: str
    """The serial number that was given to the file system when it was made."""


def fixed_volumes() -> list[Volume]:
    """Every fixed drive that has a file system, in the order of their letters."""
    letters = _kernel32.GetLogicalDrives()
    drives = (f"{chr(ord('A') + n)}:" for n in range(26) if letters >> n & 1)
    found = (volume(d) for d in drives if _kernel32.GetDriveTypeW(f"{d}\\") == _FIXED)
    return [one for one in found if one is not None]


def volume(drive: str) -> Volume | None:
    """One drive; None where nothing is mounted."""
    top = f"{drive}\\"
    free, capacity, whole = ctypes.c_uint64(), ctypes.c_uint64(), ctypes.c_uint64()
    if not _kernel32.GetDiskFreeSpaceExW(
        top, ctypes.byref(free), ctypes.byref(capacity), ctypes.byref(whole)
    ):
        return None
    name, kind = ctypes.create_unicode_buffer(261), ctypes.create_unicode_buffer(261)
    serial = wintypes.DWORD()
    _kernel32.GetVolumeInformationW(top, name, 261, ctypes.byref(serial), None, None, kind, 261)
    identity = f"{serial.value:08X}" if serial.value else ""
    return Volume(drive, name.value, kind.value, capacity.value, free.value, identity)


def windows_folder() -> str:
    """Where Windows itself is."""
    buffer = ctypes.create_unicode_buffer(261)
    _kernel32.GetSystemWindowsDirectoryW(buffer, 261)
    return buffer.value


_SHELL = ctypes.WinDLL("shell32")
_OLE = ctypes.WinDLL("ole32")


def known_folder(identity: str) -> str | None:
    """A known folder of the machine by its identity (KNOWNFOLDERID); None where there is none."""
    guid = (ctypes.c_ubyte * 16)()
    if _OLE.CLSIDFromString(ctypes.c_wchar_p(identity), ctypes.byref(guid)):
        return None
    found = ctypes.c_wchar_p()
    if _SHELL.SHGetKnownFolderPath(ctypes.byref(guid), 0, None, ctypes.byref(found)):
        return None
    path = found.value
    _OLE.CoTaskMemFree(found)
    return path
