"""Why something stayed, by what the system said when it was tried."""

from __future__ import annotations

import errno

from phylax.agent import files
from phylax.core.retention import Reason


class NoRoomError(OSError):
    """There is no room to hold a thing."""


def why_left(error: OSError) -> tuple[Reason, str]:
    """The reason for which something stayed, by what the system said, and its words."""
    detail = error.strerror or str(error)
    if isinstance(error, NoRoomError):
        return Reason.NO_ROOM, detail
    if isinstance(error, FileNotFoundError):
        return Reason.GONE, ""
    if error.errno == errno.EROFS:
        return Reason.READ_ONLY, detail
    if files.is_in_use(error):
        return Reason.IN_USE, detail
    if isinstance(error, PermissionError):
        return Reason.NO_RIGHT, detail
    return Reason.FAILED, detail
