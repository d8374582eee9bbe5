"""What can be in the way of a change."""

from __future__ import annotations


class OddPieceError(OSError):
    """Something lies there that is no piece: a pipe, a device, a file that is too large."""
