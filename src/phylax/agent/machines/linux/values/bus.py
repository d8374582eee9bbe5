"""Calls on a message bus (D-Bus Specification), each with its time."""

from __future__ import annotations

import errno
import socket
import threading
from typing import Any

from jeepney import DBusAddress, MessageType, new_method_call
from jeepney.bus import get_bus
from jeepney.io.blocking import DBusConnection, prep_socket
from jeepney.wrappers import DBusErrorResponse

SYSTEM = "unix:path=/run/dbus/system_bus_socket"
_SECONDS = 5.0


class BusError(OSError):
    """What was asked for was refused; `name` says how."""

    def __init__(self, name: str, words: str) -> None:
        super().__init__(errno.EIO, f"{name}: {words}"[:300])
        self.name = name


def _opened(address: str) -> DBusConnection:
    """A connection that has greeted its bus. Whoever does not greet back is hung up on."""
    sock = prep_socket(get_bus(address), timeout=_SECONDS)
    watch = threading.Timer(_SECONDS, lambda: sock.shutdown(socket.SHUT_RDWR))
    watch.start()
    try:
        return DBusConnection(sock)
    except BaseException:
        sock.close()
        raise
    finally:
        watch.cancel()


class Bus:
    """A bus by its address. Opened when it is first asked; to be closed."""

    def __init__(self, address: str = SYSTEM) -> None:
        self._address = address
        self._connection: DBusConnection | None = None

    def close(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    def call(
        self, who: DBusAddress, method: str, signature: str = "", body: tuple[object, ...] = ()
    ) -> tuple[Any, ...]:
        """What a method gives back. BusError where it is refused, OSError where nobody answers."""
        try:
            if self._connection is None:
                self._connection = _opened(self._address)
            message = new_method_call(who, method, signature or None, body)
            reply = self._connection.send_and_get_reply(message, timeout=_SECONDS)
        except (DBusErrorResponse, ValueError, TimeoutError, EOFError, KeyError) as failure:
            self.close()
            raise OSError(errno.EIO, f"the message bus does not answer: {failure}"[:300]) from None
        if reply.header.message_type is MessageType.error:
            error = DBusErrorResponse(reply)
            words = str(error.data[0]) if error.data else ""
            raise BusError(str(error.name), words)
        return tuple(reply.body)

    def property(self, who: DBusAddress, name: str) -> Any:
        """The value of a property."""
        properties = DBusAddress(who.object_path, who.bus_name, "org.freedesktop.DBus.Properties")
        ((_, value),) = self.call(properties, "Get", "ss", (who.interface, name))
        return value

    def set_property(self, who: DBusAddress, name: str, signature: str, value: object) -> None:
        properties = DBusAddress(who.object_path, who.bus_name, "org.freedesktop.DBus.Properties")
        self.call(properties, "Set", "ssv", (who.interface, name, (signature, value)))
