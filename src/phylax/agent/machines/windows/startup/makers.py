"""Who made a file, by its own version information."""

from __future__ import annotations

import ctypes
import sys

assert sys.platform == "win32"

_LARGEST = 1 << 20


def maker(path: str) -> str:
    """The maker that a program's or driver's file names; empty where it names none. It is only
    what the file says of itself."""
    version = ctypes.WinDLL("version")
    size = version.GetFileVersionInfoSizeW(ctypes.c_wchar_p(path), None)
    if not 0 < size <= _LARGEST:
        return ""
    block = ctypes.create_string_buffer(size)
    if not version.GetFileVersionInfoW(ctypes.c_wchar_p(path), 0, size, block):
        return ""
    tongues = _query(version, block, "\\VarFileInfo\\Translation")
    for at in range(0, len(tongues) - 3, 4):
        tongue = int.from_bytes(tongues[at : at + 2], "little")
        page = int.from_bytes(tongues[at + 2 : at + 4], "little")
        place = f"\\StringFileInfo\\{tongue:04x}{page:04x}\\CompanyName"
        said = _query(version, block, place, wide=True).decode("utf-16-le", "replace")
        if said.strip("\0 "):
            return said.strip("\0 ")
    return ""


def _query(
    version: ctypes.WinDLL, block: ctypes.Array[ctypes.c_char], place: str, *, wide: bool = False
) -> bytes:
    found, length = ctypes.c_void_p(), ctypes.c_uint()
    if (
        not version.VerQueryValueW(
            block, ctypes.c_wchar_p(place), ctypes.byref(found), ctypes.byref(length)
        )
        or not found.value
    ):
        return b""
    return ctypes.string_at(found.value, length.value * (2 if wide else 1))
