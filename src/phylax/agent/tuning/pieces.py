"""Names in folders as they are, exactly: nothing, a link, a small file, a folder.

A change is a set of pieces with what was there before and what is there after it. Reading and
writing go by folder handles below one top folder and follow no link, so that a link planted
anywhere below it leads nowhere. A name changes in one step: whoever looks sees one or the other.
"""

from __future__ import annotations

import sys

from phylax.agent.tuning.errors import OddPieceError
from phylax.core.tuning.pieces import File, State

if sys.platform == "win32":
    from phylax.agent.tuning import windows as _system
else:
    from phylax.agent.tuning import posix as _system

read, write, sweep = _system.read, _system.write, _system.sweep

__all__ = ["OddPieceError", "is_like", "read", "sweep", "write"]


def is_like(found: State | None, wanted: State) -> bool:
    """Whether what lies there is what is meant; an owner that is not named is anybody, and what
    cannot be read (None) is never it."""
    if not isinstance(found, File) or not isinstance(wanted, File):
        return found == wanted
    named = {
        field: getattr(wanted, field)
        for field in ("content", "mode", "uid", "gid")
        if getattr(wanted, field) is not None
    }
    return all(getattr(found, field) == value for field, value in named.items())
