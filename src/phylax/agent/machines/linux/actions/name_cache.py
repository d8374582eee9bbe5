"""The resolver's memory of names: resolved's FlushCaches on the message bus."""

from __future__ import annotations

from jeepney import DBusAddress

from phylax.agent.machines.linux.values.bus import Bus
from phylax.core.actions import ActEnd, ActionPart

_RESOLVER = DBusAddress(
    "/org/freedesktop/resolve1", "org.freedesktop.resolve1", "org.freedesktop.resolve1.Manager"
)


def clear_name_cache(address: str) -> ActionPart:
    """OSError where nothing here keeps names."""
    bus = Bus(address)
    try:
        bus.call(_RESOLVER, "FlushCaches")
    finally:
        bus.close()
    return ActionPart(target="", end=ActEnd.DONE, after="names are asked anew")
