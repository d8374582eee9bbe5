"""What runs on Windows, by a snapshot of the tool help library."""

from __future__ import annotations

import ctypes
import sys
from collections.abc import Iterator
from ctypes import wintypes

assert sys.platform == "win32"

_kernel32 = ctypes.WinDLL("kernel32", use_last_error=True)
_PROCESSES = 0x2


class _Process(ctypes.Structure):
    """PROCESSENTRY32W."""

    _fields_ = (
        ("size", wintypes.DWORD),
        ("usage", wintypes.DWORD),
        ("pid", wintypes.DWORD),
        ("heap", ctypes.c_void_p),
        ("module", wintypes.DWORD),
        ("threads", wintypes.DWORD),
        ("parent", wintypes.DWORD),
        ("priority", wintypes.LONG),
        ("flags", wintypes.DWORD),
        ("name", ctypes.c_wchar * 260),
    )


_kernel32.CreateToolhelp32Snapshot.restype = wintypes.HANDLE
for _call in ("Process32FirstW", "Process32NextW"):
    getattr(_kernel32, _call).argtypes = (wintypes.HANDLE, ctypes.POINTER(_Process))


def programs() -> Iterator[str]:
    """Names of running programs, in small letters, as in 'msedge.exe'."""
    snapshot = _kernel32.CreateToolhelp32Snapshot(_PROCESSES, 0)
    if snapshot in (None, wintypes.HANDLE(-1).value):
        return
    try:
        process = _Process(size=ctypes.sizeof(_Process))
        more = _kernel32.Process32FirstW(snapshot, ctypes.byref(process))
        while more:
            yield process.name.lower()
            more = _kernel32.Process32NextW(snapshot, ctypes.byref(process))
    finally:
        _kernel32.CloseHandle(wintypes.HANDLE(snapshot))
