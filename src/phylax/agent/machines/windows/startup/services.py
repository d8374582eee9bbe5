"""Services, read from where the service manager keeps them, and set through it."""

from __future__ import annotations

import ctypes
import errno
import ntpath
import re
import sys
import winreg
from collections.abc import Iterator
from ctypes import wintypes
from dataclasses import dataclass
from typing import Final

from phylax.agent.machines.windows import keys
from phylax.core.tuning.pieces import State, StoredText

assert sys.platform == "win32"

PORT: Final = "service-start"
SERVICES = r"SYSTEM\CurrentControlSet\Services"
AUTOMATIC, ON_DEMAND, DISABLED = 2, 3, 4
_DRIVERS, _PROGRAMS, _OF_PERSON = 0x0B, 0x30, 0x40
"""Bits of a service's type."""
_NAME = re.compile(r"[^\\/\x00-\x1f]{1,256}")
_CONNECT, _CHANGE, _NO_CHANGE = 0x0001, 0x0002, 0xFFFFFFFF


@dataclass(frozen=True)
class Service:
    """A program that the service manager starts."""

    name: str
    shown: str
    what: str
    command: str
    start: int
    later: bool
    group: str
    """In which part of the system's own start it comes; empty: in none."""
    protected: bool
    """The system keeps others from altering it."""
    needs: tuple[str, ...]


def all_services() -> Iterator[Service]:
    """Every service that runs a program, drivers and templates of people's left out."""
    for name in keys.keys_below("HKLM", SERVICES):
        said = keys.values_of("HKLM", rf"{SERVICES}\{name}")
        kind, start = said.get("Type"), said.get("Start")
        if (
            isinstance(kind, int)
            and kind & _PROGRAMS
            and not kind & _OF_PERSON
            and start in (AUTOMATIC, ON_DEMAND, DISABLED)
        ):
            needs = said.get("DependOnService")
            yield Service(
                name=name,
                shown=_text(said, "DisplayName") or name,
                what=_text(said, "Description"),
                command=winreg.ExpandEnvironmentStrings(_text(said, "ImagePath")),
                start=int(str(start)),
                later=said.get("DelayedAutostart") == 1,
                group=_text(said, "Group"),
                protected=bool(said.get("LaunchProtected")),
                needs=tuple(map(str, needs)) if isinstance(needs, list) else (),
            )


def driver_files(windows: str) -> Iterator[str]:
    """Files of drivers that somebody else than the system brought."""
    for name in keys.keys_below("HKLM", SERVICES):
        said = keys.values_of("HKLM", rf"{SERVICES}\{name}")
        kind, image = said.get("Type"), _text(said, "ImagePath")
        if isinstance(kind, int) and kind & _DRIVERS and image:
            path = winreg.ExpandEnvironmentStrings(image).removeprefix("\\??\\")
            if path.lower().startswith("\\systemroot\\"):
                path = ntpath.join(windows, path[12:])
            elif not ntpath.isabs(path):
                path = ntpath.join(windows, path)
            yield path


def _text(said: dict[str, object], name: str) -> str:
    value = said.get(name)
    return value if isinstance(value, str) and not value.startswith("@") else ""


class ServiceStarts:
    """How services start, as a port."""

    def read(self, path: str) -> State:
        said = keys.values_of("HKLM", rf"{SERVICES}\{_checked(path)}")
        if said.get("Start") not in (AUTOMATIC, ON_DEMAND, DISABLED):
            raise FileNotFoundError(errno.ENOENT, "no such service", path)
        return StoredText(text=str(said["Start"]))

    def write(self, path: str, state: State) -> None:
        name = _checked(path)
        if not isinstance(state, StoredText) or state.text not in ("2", "3", "4"):
            raise OSError(errno.EINVAL, "is no way for a service to start", path)
        api = ctypes.WinDLL("advapi32", use_last_error=True)
        for call in (api.OpenSCManagerW, api.OpenServiceW):
            call.restype = wintypes.HANDLE
        api.OpenServiceW.argtypes = (wintypes.HANDLE, wintypes.LPCWSTR, wintypes.DWORD)
        api.ChangeServiceConfigW.argtypes = (
            wintypes.HANDLE, *(wintypes.DWORD,) * 3, *(wintypes.LPVOID,) * 7,
        )  # fmt: skip
        api.CloseServiceHandle.argtypes = (wintypes.HANDLE,)
        manager = api.OpenSCManagerW(None, None, _CONNECT)
        if not manager:
            raise ctypes.WinError(ctypes.get_last_error())
        try:
            service = api.OpenServiceW(manager, name, _CHANGE)
            if not service:
                raise ctypes.WinError(ctypes.get_last_error())
            try:
                if not api.ChangeServiceConfigW(
                    service, _NO_CHANGE, int(state.text), _NO_CHANGE, *(None,) * 7
                ):
                    raise ctypes.WinError(ctypes.get_last_error())
            finally:
                api.CloseServiceHandle(service)
        finally:
            api.CloseServiceHandle(manager)


def _checked(path: str) -> str:
    if not _NAME.fullmatch(path):
        raise OSError(errno.EINVAL, "is no service", path)
    return path
