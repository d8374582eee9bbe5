"""How a machine uses its power while plugged in: what the desktop's power daemon keeps, by its
interface on the system's message bus."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from typing import Final

from jeepney import DBusAddress

from phylax.agent.machines.linux.values.bus import Bus, BusError
from phylax.core.tuning.pieces import Piece, State, StoredText
from phylax.core.tuning.verdicts import Seen

SETTING: Final = "power"
PORT: Final = "power-profile"
_ACTIVE = "active"
_DAEMON = DBusAddress(
    "/net/hadess/PowerProfiles", "net.hadess.PowerProfiles", "net.hadess.PowerProfiles"
)
_WORDS = {"speed": "performance", "even": "balanced", "battery": "power-saver"}
"""By our choices: what the daemon calls them."""
_NO_DAEMON = tuple(
    f"org.freedesktop.DBus.Error.{word}" for word in ("ServiceUnknown", "NameHasNoOwner")
)


class PowerProfile:
    """The daemon's setting, as a port."""

    def __init__(self, address: str) -> None:
        self._address = address

    def values(self) -> Iterator[Seen]:
        """The setting, where there is such a daemon."""
        bus = Bus(self._address)
        try:
            active = bus.property(_DAEMON, "ActiveProfile")
        except BusError as error:
            if error.name not in _NO_DAEMON:
                yield Seen(key=SETTING, unread=str(error.strerror)[:500])
            return
        except OSError:
            return  # no bus, hence no daemon
        finally:
            bus.close()
        choices = [choice for choice, word in _WORDS.items() if word == active]
        if choices:
            yield Seen(key=SETTING, value=choices[0], writable=os.geteuid() == 0)
        else:
            yield Seen(key=SETTING, unread=f"it is {active}, which is not known here"[:500])

    def pieces(self, value: str) -> tuple[Piece, ...]:
        after = StoredText(text=_WORDS[value])
        return (Piece(path=_ACTIVE, port=PORT, before=self.read(_ACTIVE), after=after),)

    def read(self, path: str) -> State:
        bus = Bus(self._address)
        try:
            return StoredText(text=str(bus.property(_DAEMON, "ActiveProfile")))
        finally:
            bus.close()

    def write(self, path: str, state: State) -> None:
        if (
            path != _ACTIVE
            or not isinstance(state, StoredText)
            or state.text not in _WORDS.values()
        ):
            raise OSError(errno.EINVAL, "is no way to use power", path)
        bus = Bus(self._address)
        try:
            bus.set_property(_DAEMON, "ActiveProfile", "s", state.text)
        finally:
            bus.close()
