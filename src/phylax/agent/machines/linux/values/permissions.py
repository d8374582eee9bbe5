"""Which programs may see, hear and locate: the permission store of a person's session, which the
desktop's portal keeps.

A program that was never asked about is not listed, and asks before its first use; hence off is:
nobody who is listed may.
"""

from __future__ import annotations

import errno
import json
import os
from collections.abc import Iterator
from typing import Final, NamedTuple

from jeepney import DBusAddress

from phylax.agent.machines.linux.values.bus import Bus, BusError
from phylax.agent.machines.linux.values.session_bus import bus_of_person
from phylax.core.tuning.pieces import NOTHING, Nothing, Piece, State, StoredText
from phylax.core.tuning.verdicts import Seen

PORT: Final = "permission"
_STORE = DBusAddress(
    "/org/freedesktop/impl/portal/PermissionStore",
    "org.freedesktop.impl.portal.PermissionStore",
    "org.freedesktop.impl.portal.PermissionStore",
)
_NO_ENTRY = "org.freedesktop.portal.Error.NotFound"
_KEPT_IN = ".local/share/flatpak/db"
"""Below the home: without it, nothing was ever allowed or refused."""


class _Place(NamedTuple):
    table: str
    id: str
    refused: str
    """What the first word of an entry is where the program may not."""


SETTINGS: Final = {
    "sees": _Place("devices", "camera", "no"),
    "hears": _Place("devices", "microphone", "no"),
    "locates": _Place("location", "location", "NONE"),
}
_PLACES = {(place.table, place.id) for place in SETTINGS.values()}
_MOST = 200
"""Programs; of a longer list nothing is set."""


class Permissions:
    """The permission store of one person, as a port."""

    def __init__(self, person: str, uid: int, home: str) -> None:
        self._person = person
        self._uid = uid
        self._home = home

    def values(self) -> Iterator[Seen]:
        """What was decided of programs that asked; nothing where none ever did."""
        tables = [place for place in SETTINGS.values() if self._may_have(place)]
        if not tables:
            return
        with bus_of_person(self._uid, self._home) as address:
            bus = Bus(address)
            try:
                for setting, place in SETTINGS.items():
                    yield from self._value(bus, setting, place)
            finally:
                bus.close()

    def _may_have(self, place: _Place) -> bool:
        return os.path.exists(os.path.join(self._home, _KEPT_IN, place.table))

    def _value(self, bus: Bus, setting: str, place: _Place) -> Iterator[Seen]:
        try:
            listed = _listed(bus, place.table, place.id)
        except OSError as failure:
            yield Seen(key=setting, person=self._person, unread=(failure.strerror or "")[:500])
            return
        if listed:
            allowed = any(_allows(words, place) for words in listed.values())
            # what was allowed is known before it is refused, and only then
            yield Seen(key=setting, person=self._person, value=allowed, settable=allowed)

    def pieces(self, setting: str, value: bool) -> tuple[Piece, ...]:
        """Refuse it to everybody who is listed. OSError where that is not what is meant."""
        if value:
            raise OSError(errno.ENOTSUP, "is allowed again by putting back what refused it")
        place = SETTINGS[setting]
        with bus_of_person(self._uid, self._home) as address:
            bus = Bus(address)
            try:
                listed = _listed(bus, place.table, place.id)
            finally:
                bus.close()
        if len(listed) > _MOST:
            raise OSError(errno.E2BIG, f"more than {_MOST} programs are listed", setting)
        return tuple(
            Piece(
                path=f"{place.table}/{place.id}/{program}",
                of=self._person,
                port=PORT,
                before=StoredText(text=json.dumps(words)),
                after=StoredText(text=json.dumps([place.refused, *words[1:]])),
            )
            for program, words in sorted(listed.items())
            if _allows(words, place)
        )

    def read(self, path: str) -> State:
        table, id_, program = _parted(path)
        with bus_of_person(self._uid, self._home) as address:
            bus = Bus(address)
            try:
                words = _listed(bus, table, id_).get(program)
            finally:
                bus.close()
        return NOTHING if words is None else StoredText(text=json.dumps(words))

    def write(self, path: str, state: State) -> None:
        table, id_, program = _parted(path)
        with bus_of_person(self._uid, self._home) as address:
            bus = Bus(address)
            try:
                if isinstance(state, Nothing):
                    bus.call(_STORE, "DeletePermission", "sss", (table, id_, program))
                elif isinstance(state, StoredText):
                    words = [str(word) for word in json.loads(state.text)]
                    body = (table, True, id_, program, words)
                    bus.call(_STORE, "SetPermission", "sbssas", body)
            finally:
                bus.close()


def _listed(bus: Bus, table: str, id_: str) -> dict[str, list[str]]:
    """What was decided, by program."""
    try:
        permissions, _ = bus.call(_STORE, "Lookup", "ss", (table, id_))
    except BusError as error:
        if error.name == _NO_ENTRY:
            return {}
        raise
    return {str(program): list(map(str, words)) for program, words in permissions.items()}


def _allows(words: list[str], place: _Place) -> bool:
    return bool(words) and words[0] != place.refused


def _parted(path: str) -> tuple[str, str, str]:
    table, _, rest = path.partition("/")
    id_, _, program = rest.partition("/")
    if (table, id_) not in _PLACES or not program:
        raise OSError(errno.EINVAL, "is not set by us", path)
    return table, id_, program
