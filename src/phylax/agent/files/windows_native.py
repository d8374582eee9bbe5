"""The calls, structures and numbers of Windows' native interface that `windows` works with."""

from __future__ import annotations

import ctypes
import sys
from ctypes import wintypes

assert sys.platform == "win32"

ntdll = ctypes.WinDLL("ntdll")
kernel32 = ctypes.WinDLL("kernel32", use_last_error=True)

DELETE, SYNCHRONIZE, LIST, ADD, READ_ATTRIBUTES, WRITE_ATTRIBUTES = (
    0x10000, 0x100000, 0x1, 0x6, 0x80, 0x100,
)  # fmt: skip
THROUGH = 0x20 | READ_ATTRIBUTES | SYNCHRONIZE
"""To go through a folder one need not be allowed to list it."""
SHARE_ALL = 0x7
OPEN, CREATE = 1, 2
FOLDER_ONLY, SYNCHRONOUS, NO_FOLDER, FOR_BACKUP, THE_LINK_ITSELF = (
    0x1, 0x20, 0x40, 0x4000, 0x200000,
)  # fmt: skip
IS_READ_ONLY, IS_FOLDER, IS_NORMAL, IS_REPARSE = 0x1, 0x10, 0x80, 0x400
BASIC, RENAME, DISPOSITION, ID_BOTH_DIRECTORY = 4, 10, 13, 37
NO_MORE, NO_SUCH_FILE, CANNOT_DELETE = 0x80000006, 0xC000000F, 0xC0000121
CASE_INSENSITIVE = 0x40
EPOCH = 116_444_736_000_000_000
"""1601 to 1970 in the units of FILETIME, 100 ns."""
BUFFER = 64 * 1024
IN_USE = (32, 33)
"""ERROR_SHARING_VIOLATION and ERROR_LOCK_VIOLATION."""


class UnicodeString(ctypes.Structure):
    _fields_ = (
        ("Length", wintypes.USHORT),
        ("MaximumLength", wintypes.USHORT),
        ("Buffer", wintypes.LPWSTR),
    )


class ObjectAttributes(ctypes.Structure):
    _fields_ = (
        ("Length", wintypes.ULONG),
        ("RootDirectory", wintypes.HANDLE),
        ("ObjectName", ctypes.POINTER(UnicodeString)),
        ("Attributes", wintypes.ULONG),
        ("SecurityDescriptor", wintypes.LPVOID),
        ("SecurityQualityOfService", wintypes.LPVOID),
    )


class IoStatus(ctypes.Structure):
    _fields_ = (("Status", ctypes.c_void_p), ("Information", ctypes.c_void_p))


class ByHandle(ctypes.Structure):
    _fields_ = (
        ("attributes", wintypes.DWORD),
        ("created", wintypes.FILETIME),
        ("accessed", wintypes.FILETIME),
        ("written", wintypes.FILETIME),
        ("volume", wintypes.DWORD),
        ("size_high", wintypes.DWORD),
        ("size_low", wintypes.DWORD),
        ("links", wintypes.DWORD),
        ("index_high", wintypes.DWORD),
        ("index_low", wintypes.DWORD),
    )


class Entry(ctypes.Structure):
    """FILE_ID_BOTH_DIR_INFORMATION, without the name that follows it."""

    _fields_ = (
        ("next", wintypes.ULONG),
        ("index", wintypes.ULONG),
        ("created", ctypes.c_int64),
        ("accessed", ctypes.c_int64),
        ("written", ctypes.c_int64),
        ("changed", ctypes.c_int64),
        ("size", ctypes.c_int64),
        ("allocated", ctypes.c_int64),
        ("attributes", wintypes.ULONG),
        ("name_length", wintypes.ULONG),
        ("ea_size", wintypes.ULONG),
        ("short_length", ctypes.c_byte),
        ("short_name", ctypes.c_wchar * 12),
        ("file_id", ctypes.c_int64),
    )


class Basic(ctypes.Structure):
    _fields_ = (
        ("created", ctypes.c_int64),
        ("accessed", ctypes.c_int64),
        ("written", ctypes.c_int64),
        ("changed", ctypes.c_int64),
        ("attributes", wintypes.ULONG),
    )


kernel32.CreateFileW.restype = wintypes.HANDLE
kernel32.CreateFileW.argtypes = (
    wintypes.LPCWSTR, wintypes.DWORD, wintypes.DWORD, wintypes.LPVOID, wintypes.DWORD,
    wintypes.DWORD, wintypes.HANDLE,
)  # fmt: skip
kernel32.CloseHandle.argtypes = (wintypes.HANDLE,)
kernel32.GetFileInformationByHandle.argtypes = (wintypes.HANDLE, ctypes.POINTER(ByHandle))
kernel32.GetCurrentProcess.restype = wintypes.HANDLE
kernel32.DuplicateHandle.argtypes = (
    wintypes.HANDLE, wintypes.HANDLE, wintypes.HANDLE, ctypes.POINTER(wintypes.HANDLE),
    wintypes.DWORD, wintypes.BOOL, wintypes.DWORD,
)  # fmt: skip
ntdll.RtlNtStatusToDosError.argtypes = (wintypes.ULONG,)
ntdll.RtlNtStatusToDosError.restype = wintypes.ULONG
for _call in ("NtCreateFile", "NtQueryDirectoryFile", "NtSetInformationFile"):
    getattr(ntdll, _call).restype = wintypes.ULONG
