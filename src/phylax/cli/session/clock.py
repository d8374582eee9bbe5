"""What time the command line takes it to be: the one place where it asks."""

from __future__ import annotations

from datetime import UTC, datetime


def _by_the_system() -> datetime:
    return datetime.now(UTC)


source = _by_the_system
"""Asked for the time, an aware UTC datetime; tests put the shop's own clock here."""


def now() -> datetime:
    """The aware UTC time by now."""
    return source()
