"""Settings of a person's desktop: keys that its settings service keeps (GSettings, dconf).

To be read and set with that person's rights. What lies below a key is read from their own file and
written by the service that keeps it, on the bus of their session, or on one of our own where
nobody is signed in.
"""

from __future__ import annotations

import errno
import os
import stat
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Final, NamedTuple

from phylax.agent.machines.linux.tools import ask
from phylax.agent.machines.linux.values.session_bus import bus_of_person, runtime_folder
from phylax.core.tuning.pieces import NOTHING, Piece, State, StoredText
from phylax.core.tuning.verdicts import Seen

PORT: Final = "desktop-key"
_FILE = ".config/dconf/user"
_SECONDS = 4.0
_DCONF, _GSETTINGS = "/usr/bin/dconf", "/usr/bin/gsettings"


class _Key(NamedTuple):
    schema: str
    path: str
    name: str

    @property
    def place(self) -> str:
        return f"{self.path}{self.name}"


SETTINGS: Final = {
    "motion": _Key(
        "org.gnome.desktop.interface", "/org/gnome/desktop/interface/", "enable-animations"
    ),
    "interruptions": _Key(
        "org.gnome.desktop.notifications", "/org/gnome/desktop/notifications/", "show-banners"
    ),
}
"""Switches of desktops that keep them by these names."""
_PLACES = {key.place for key in SETTINGS.values()}
_SAID = {"true": True, "false": False}


class DesktopKeys:
    """Keys of one person's desktop, as a port."""

    def __init__(self, person: str, uid: int, home: str) -> None:
        self._person = person
        self._uid = uid
        self._home = home

    def values(self) -> Iterator[Seen]:
        """Those whose desktop is installed; what was never set is what the desktop makes of it."""
        if not (os.path.exists(_DCONF) and os.path.exists(_GSETTINGS)):
            return
        if odd := self._why_odd():
            for setting in SETTINGS:
                yield Seen(key=setting, person=self._person, unread=odd)
            return
        for setting, key in SETTINGS.items():
            with self._reading() as env:
                try:
                    said = ask(
                        [_GSETTINGS, "get", key.schema, key.name], env, seconds=_SECONDS
                    ).strip()
                except TimeoutError:
                    yield Seen(
                        key=setting, person=self._person, unread="its desktop does not answer"
                    )
                    continue
                except OSError:
                    continue  # no such desktop here
            if said in _SAID:
                yield Seen(key=setting, person=self._person, value=_SAID[said])
            else:
                yield Seen(key=setting, person=self._person, unread="is neither on nor off")

    def pieces(self, setting: str, value: bool) -> tuple[Piece, ...]:
        place = SETTINGS[setting].place
        after = StoredText(text="true" if value else "false")
        piece = Piece(path=place, of=self._person, port=PORT, before=self.read(place), after=after)
        return (piece,)

    def read(self, path: str) -> State:
        self._check(path)
        with self._reading() as env:
            said = ask([_DCONF, "read", path], env, seconds=_SECONDS).strip()
        return StoredText(text=said) if said else NOTHING

    def write(self, path: str, state: State) -> None:
        self._check(path)
        with bus_of_person(self._uid, self._home) as address:
            env = self._env(runtime_folder(self._uid)) | {"DBUS_SESSION_BUS_ADDRESS": address}
            if isinstance(state, StoredText):
                ask([_DCONF, "write", path, state.text], env, seconds=_SECONDS)
            else:
                ask([_DCONF, "reset", path], env, seconds=_SECONDS)

    def _check(self, path: str) -> None:
        if path not in _PLACES:
            raise OSError(errno.EINVAL, "is not set by us", path)
        if odd := self._why_odd():
            raise OSError(errno.EINVAL, odd)

    def _why_odd(self) -> str:
        """Why the file of their settings is not asked; empty where it may be: who opens a pipe
        waits."""
        try:
            st = os.stat(os.path.join(self._home, _FILE))
        except FileNotFoundError:
            return ""
        except OSError as failure:
            return f"{_FILE}: {failure.strerror}"
        return "" if stat.S_ISREG(st.st_mode) else f"{_FILE} is no file"

    def _env(self, runtime: str) -> dict[str, str]:
        return {"HOME": self._home, "GSETTINGS_BACKEND": "dconf", "XDG_RUNTIME_DIR": runtime}

    @contextmanager
    def _reading(self) -> Iterator[dict[str, str]]:
        """A surrounding in which reading leaves nothing in the person's folders."""
        with tempfile.TemporaryDirectory(prefix="phylax-") as runtime:
            yield self._env(runtime)
