"""Values of the registry as a port: read with their types, written only where we set any."""

from __future__ import annotations

import errno
import json
import re
import sys
import winreg
from base64 import b64decode, b64encode
from typing import Any, Final, NamedTuple

from phylax.core.tuning.pieces import NOTHING, Folder, Nothing, State, StoredText

assert sys.platform == "win32"

PORT: Final = "registry"
_HIVES = {"HKLM": winreg.HKEY_LOCAL_MACHINE, "HKU": winreg.HKEY_USERS}
_VIEWS = {"64": winreg.KEY_WOW64_64KEY, "32": winreg.KEY_WOW64_32KEY}
_TYPES = {
    winreg.REG_NONE, winreg.REG_SZ, winreg.REG_EXPAND_SZ, winreg.REG_MULTI_SZ, winreg.REG_BINARY,
    winreg.REG_DWORD, winreg.REG_QWORD,
}  # fmt: skip
_NAME = "\\\\"
"""Between a key and the name of a value: no key has an empty part."""


class Place(NamedTuple):
    """A value's or a key's place."""

    hive: str
    """HKLM, or HKU with the identifier of somebody's account as the key's first part."""
    key: str
    name: str | None = None
    """None: the key itself."""
    view: str = "64"

    @property
    def path(self) -> str:
        """As pieces name it."""
        return f"{self.hive} {self.view} {self.key}" + (
            "" if self.name is None else f"{_NAME}{self.name}"
        )

    @classmethod
    def of(cls, path: str) -> Place:
        """The place behind a path. OSError where it is none."""
        hive, _, rest = path.partition(" ")
        view, _, rest = rest.partition(" ")
        key, has_name, name = rest.partition(_NAME)
        if hive not in _HIVES or view not in _VIEWS or not key:
            raise OSError(errno.EINVAL, "is no place in the registry", path)
        return cls(hive, key, name if has_name else None, view)

    @property
    def above(self) -> Place:
        """The key in which a value lies, or that a key lies in."""
        if self.name is not None:
            return self._replace(name=None)
        return self._replace(key=self.key.rpartition("\\")[0])


class Registry:
    """The registry, as far as we set anything in it."""

    def __init__(self, ours: re.Pattern[str], above: re.Pattern[str]) -> None:
        """`ours` matches the keys in which values are set, as in 'HKLM Software\\Maker'; `above`
        those that may be made for them to lie in."""
        self._ours = ours
        self._above = above

    def read(self, path: str) -> State:
        return read(Place.of(path))

    def write(self, path: str, state: State) -> None:
        place = Place.of(path)
        named = f"{place.hive} {place.key}"
        is_made = place.name is None and self._above.fullmatch(named)
        if not (is_made or self._ours.fullmatch(named)):
            raise OSError(errno.EINVAL, "is not set by us", path)
        hive, view = _HIVES[place.hive], _VIEWS[place.view]
        match state:
            case Nothing() if place.name is None:
                _delete_empty(place, hive, view)
            case Nothing():
                with winreg.OpenKey(hive, place.key, 0, winreg.KEY_SET_VALUE | view) as key:
                    winreg.DeleteValue(key, str(place.name))
            case Folder() if place.name is None:
                winreg.CreateKeyEx(hive, place.key, 0, winreg.KEY_WRITE | view).Close()
            case StoredText() if place.name is not None:
                value, kind = _unpacked(state.text)
                with winreg.OpenKey(hive, place.key, 0, winreg.KEY_SET_VALUE | view) as key:
                    winreg.SetValueEx(key, place.name, 0, kind, value)
            case _:
                raise OSError(errno.EINVAL, "is nothing that a registry keeps", path)


def read(place: Place) -> State:
    """What lies at a place: a value with its type, a key, or nothing."""
    try:
        access = winreg.KEY_READ | _VIEWS[place.view]
        with winreg.OpenKey(_HIVES[place.hive], place.key, 0, access) as key:
            if place.name is None:
                return Folder()
            return StoredText(text=packed(*winreg.QueryValueEx(key, place.name)))
    except FileNotFoundError:
        return NOTHING


def packed(value: object, kind: int) -> str:
    """A value with its type, as a piece keeps it. OSError where it is of another kind."""
    if kind not in _TYPES:
        raise OSError(errno.EINVAL, f"is of kind {kind}, which is not kept here")
    if isinstance(value, bytes):
        return json.dumps([kind, {"bytes": b64encode(value).decode("ascii")}])
    return json.dumps([kind, value])


def _unpacked(text: str) -> tuple[Any, int]:
    kind, value = json.loads(text)
    if isinstance(value, dict):
        return b64decode(value["bytes"]), int(kind)
    return value, int(kind)


def _delete_empty(place: Place, hive: int, view: int) -> None:
    with winreg.OpenKey(hive, place.key, 0, winreg.KEY_READ | view) as key:
        keys, values, _ = winreg.QueryInfoKey(key)
    if keys or values:
        raise OSError(errno.ENOTEMPTY, "somebody else has put something there", place.path)
    winreg.DeleteKeyEx(hive, place.key, view)


def keys_below(hive: str, path: str, view: str = "64") -> list[str]:
    """Names of a key's keys; none where it is not there."""
    try:
        access = winreg.KEY_READ | _VIEWS[view]
        with winreg.OpenKey(_HIVES[hive], path, 0, access) as key:
            return [winreg.EnumKey(key, n) for n in range(winreg.QueryInfoKey(key)[0])]
    except OSError:
        return []


def values_of(hive: str, path: str, view: str = "64") -> dict[str, object]:
    """A key's values; none where it is not there."""
    try:
        access = winreg.KEY_READ | _VIEWS[view]
        with winreg.OpenKey(_HIVES[hive], path, 0, access) as key:
            count = winreg.QueryInfoKey(key)[1]
            return {
                name: value for name, value, _ in (winreg.EnumValue(key, n) for n in range(count))
            }
    except OSError:
        return {}
