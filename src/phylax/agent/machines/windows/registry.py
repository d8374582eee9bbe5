"""What the registry says: people and their folders, installed programs, the make of the machine."""

from __future__ import annotations

import ntpath
import re
import sys
import winreg
from collections.abc import Iterator
from typing import NamedTuple

from phylax.agent.machines import Thing

assert sys.platform == "win32"

_PROFILES = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList"
_SHELL = r"Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders"
_UNINSTALL = (
    r"SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall",
    r"SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall",
)
_BIOS = r"HARDWARE\DESCRIPTION\System\BIOS"
_PERSON = re.compile(r"S-1-5-21-[0-9-]+|S-1-12-1-[0-9-]+")
"""Identifiers of people's accounts, local or of a directory."""
DOWNLOADS = "{374DE290-123F-4565-9164-39C4925E467B}"


class Person(NamedTuple):
    sid: str
    name: str
    home: str
    folders: dict[str, str]
    """Where the person's own folders are, by the registry's names, as far as it says."""


def people() -> Iterator[Person]:
    """Everyone with a profile on the machine."""
    for sid in _keys(winreg.HKEY_LOCAL_MACHINE, _PROFILES):
        if not _PERSON.fullmatch(sid):
            continue
        path = _value(winreg.HKEY_LOCAL_MACHINE, rf"{_PROFILES}\{sid}", "ProfileImagePath")
        if not path:
            continue
        home = winreg.ExpandEnvironmentStrings(path)
        yield Person(sid, ntpath.basename(home), home, _folders(sid, home))


def _folders(sid: str, home: str) -> dict[str, str]:
    """Known of who is signed in, for only then their part of the registry is loaded."""
    found = {
        name: value
        for name, value in _values(winreg.HKEY_USERS, rf"{sid}\{_SHELL}")
        if isinstance(value, str)
    }
    if temp := _value(winreg.HKEY_USERS, rf"{sid}\Environment", "TEMP"):
        found["TEMP"] = temp
    paths = {name: expanded(value, home) for name, value in found.items()}
    return {name: path for name, path in paths.items() if is_local(path)}


def is_local(path: str) -> bool:
    """Whether a path is on a drive of this machine. What people write down may name any machine of
    the network, which is not asked for it: to ask is to sign in there."""
    return re.match(r"[A-Za-z]:\\", path) is not None


def expanded(path: str, home: str) -> str:
    """With the person's own folder, which may not be that of whom the agent runs as."""
    local = ntpath.join(home, "AppData", "Local")
    for name, value in (("USERPROFILE", home), ("LOCALAPPDATA", local)):
        path = re.sub(rf"%{name}%", value.replace("\\", r"\\"), path, flags=re.IGNORECASE)
    return winreg.ExpandEnvironmentStrings(path)


def programs() -> Iterator[Thing]:
    """Installed programs, as their installers wrote them down. When they were last used is not."""
    seen: set[str] = set()
    for root in (winreg.HKEY_LOCAL_MACHINE, winreg.HKEY_CURRENT_USER):
        for key in _UNINSTALL:
            for name in _keys(root, key):
                said = dict(_values(root, rf"{key}\{name}"))
                title = said.get("DisplayName")
                if not isinstance(title, str) or said.get("SystemComponent") == 1 or title in seen:
                    continue
                seen.add(title)
                size = said.get("EstimatedSize")
                yield Thing(
                    title,
                    size * 1024 if isinstance(size, int) else 0,
                    None,
                    str(said.get("Publisher") or ""),
                )


def make_and_model() -> tuple[str, str]:
    def said(name: str) -> str:
        return str(_value(winreg.HKEY_LOCAL_MACHINE, _BIOS, name) or "")[:120]

    return said("SystemManufacturer"), said("SystemProductName")


def _keys(root: int, path: str) -> list[str]:
    try:
        with winreg.OpenKey(root, path) as key:
            return [winreg.EnumKey(key, n) for n in range(winreg.QueryInfoKey(key)[0])]
    except OSError:
        return []


def _values(root: int, path: str) -> Iterator[tuple[str, object]]:
    try:
        with winreg.OpenKey(root, path) as key:
            for n in range(winreg.QueryInfoKey(key)[1]):
                name, value, _ = winreg.EnumValue(key, n)
                yield name, value
    except OSError:
        return


def _value(root: int, path: str, name: str) -> str:
    found = dict(_values(root, path)).get(name)
    return found if isinstance(found, str) else ""
