"""What systemd says of the start under way, on the message bus."""

from __future__ import annotations

from collections.abc import Sequence

from jeepney import DBusAddress

from phylax.agent.machines.linux.values.bus import Bus

_MANAGER = DBusAddress(
    "/org/freedesktop/systemd1", "org.freedesktop.systemd1", "org.freedesktop.systemd1.Manager"
)
_MOST = 500


def usable_after(address: str) -> float | None:
    """Seconds from the kernel's beginning until everything asked for had started."""
    bus = Bus(address)
    try:
        finished = int(bus.property(_MANAGER, "FinishTimestampMonotonic"))
    except (OSError, TypeError, ValueError):
        return None
    finally:
        bus.close()
    return finished / 1_000_000 if 0 < finished < 10**12 else None


def failed_parts(address: str) -> Sequence[str] | None:
    """Units that failed; None where nobody can say."""
    bus = Bus(address)
    try:
        (units,) = bus.call(_MANAGER, "ListUnitsFiltered", "as", (["failed"],))
        return sorted(str(unit[0])[:300] for unit in units[:_MOST])
    except (OSError, TypeError, IndexError):
        return None
    finally:
        bus.close()
