"""Files as the engine knows them: by a handle on an open folder and a name in it.

Whatever is looked at or let go is named by one part of a path, in a folder that is held open, and
links are never followed: one planted between look and action leads nowhere. `posix` does so by the
*at calls of POSIX.1-2008, `windows` by opening relative to a folder's handle.

Everything that changes something on a volume goes through here and is announced by `step`.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable

if sys.platform == "win32":
    from phylax.agent.files import windows as _system
else:
    from phylax.agent.files import posix as _system

Entries = _system.Entries
open_top, open_folder, again, close = (
    _system.open_top, _system.open_folder, _system.again, _system.close,
)  # fmt: skip
about, names = _system.about, _system.names
look, looker = _system.look, _system.looker
look_on_this_mount = _system.look_on_this_mount
portions, name_portions = _system.portions, _system.name_portions
folder_names, is_folder, is_empty = _system.folder_names, _system.is_folder, _system.is_empty
read, may_look_into = _system.read, _system.may_look_into
is_in_use, open_looker = _system.is_in_use, _system.open_looker


OWN = getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)
"""How a file of the agent's own is opened: not for other programs it starts, byte by byte."""


def _go_on(action: str) -> None:
    """Nothing stands between an action and its doing."""


step: Callable[[str], None] = _go_on
"""Called with each action just before it is done. Fault tests end or hinder the work here."""


def exists(name: str, parent: int) -> bool:
    """Whether a name is taken in an open folder, by whatever it is."""
    if is_folder(name, parent):
        return True
    try:
        look(name, parent)
    except FileNotFoundError:
        return False
    except OSError:
        return True
    return True


_unlink = _system.unlink


def unlink(name: str, parent: int) -> None:
    """Remove a file or a link. OSError where that fails."""
    step("unlink")
    _unlink(name, parent)


def unlinker(parent: int) -> Callable[[str], None]:
    """The same for many names in one open folder."""
    if step is _go_on:
        return _system.unlinker(parent)
    return lambda name: unlink(name, parent)


def rmdir(name: str, parent: int) -> None:
    """Remove an empty folder. OSError where that fails."""
    step("rmdir")
    _system.rmdir(name, parent)


def move(name: str, parent: int, new_name: str, new_parent: int) -> None:
    """Give a file, link or folder another name or folder on the same volume, whole or not at all.

    FileExistsError where the new name is taken: nothing is ever overwritten.
    """
    step("move")
    _system.move(name, parent, new_name, new_parent)


def mover(parent: int, new_parent: int) -> Callable[[str, str], None]:
    """The same for many names of one open folder that go to another."""
    if step is _go_on:
        return _system.mover(parent, new_parent)
    return lambda name, new_name: move(name, parent, new_name, new_parent)


def make_folder(name: str, parent: int, mode: int = 0o700) -> None:
    """A new folder in an open one. OSError where that fails."""
    step("make folder")
    _system.make_folder(name, parent, mode)


def give(name: str, parent: int, mode: int, user: int, group: int) -> None:
    """Set mode and owner of a folder, as far as they are ours to give."""
    step("give")
    _system.give(name, parent, mode, user, group)


def append(handle: int, text: bytes) -> bytes:
    """Write to a file opened for appending; what could not be written any more is returned."""
    step("append")
    return _system.append(handle, text)


def sync(handle: int) -> None:
    """Returns when what was written to a file is on the disk."""
    step("sync")
    _system.sync(handle)


def sync_folder_at(path: str) -> None:
    """The same for a folder of the agent's own, by its path."""
    handle = open_top(os.path.realpath(path))
    try:
        sync_folder(handle)
    finally:
        close(handle)


def sync_folder(handle: int) -> None:
    """Returns when the names in an open folder are on the disk."""
    step("sync")
    _system.sync_folder(handle)
