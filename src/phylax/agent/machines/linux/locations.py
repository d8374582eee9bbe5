"""Where the folders of people and of the system are on a Linux machine."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from dataclasses import replace

from phylax.agent.machines import Location
from phylax.agent.machines.linux.mounts import (
    Mount,
    why_mounted_over,
)
from phylax.agent.machines.linux.user_dirs import UserDirs, user_dirs
from phylax.core.catalogue import Folder
from phylax.core.survey import spell


def real_home(path: str) -> str:
    """A home, links above it resolved: what it is itself is not asked."""
    path = os.path.abspath(path)
    return os.path.join(os.path.realpath(os.path.dirname(path)), os.path.basename(path))


def folder_location(path: str, user: str = "", owner: int = 0) -> Iterator[Location]:
    """A folder as a location: none where there is no such folder, or a link in its stead. Links
    above it are people's own way of keeping things elsewhere, and are resolved here, once; they may
    lead to nothing but what belongs to their owner."""
    shown, above = path, os.path.dirname(path)
    try:
        path = os.path.join(os.path.realpath(above), os.path.basename(path))
        st = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return
    except OSError as error:
        yield Location(path, shown, user, why=error.strerror or str(error))
        return
    if not stat.S_ISDIR(st.st_mode):
        return
    if path != shown and st.st_uid != owner:
        why = "reached through a link, and somebody else's"
        yield Location(path, shown, user, why=why)
        return
    yield Location(path, shown, user)


def shown_mount(path: str) -> str:
    """A mount's path as it can be sent: names that are not UTF-8 with their bytes spelt out."""
    return spell(path)[0]


def trash_on(mount: Mount, name: str, uid: int) -> Iterator[Location]:
    """A person's trash folders at the top of a volume."""
    shared = os.path.join(mount.path, ".Trash")
    candidates = [os.path.join(shared, str(uid))] if _is_sticky_folder(shared) else []
    for own in (*candidates, os.path.join(mount.path, f".Trash-{uid}")):
        if _is_folder(own):
            yield Location(own, own, name, owners=range(uid, uid + 1))


def personal_locations(base: Folder, name: str, uid: int, home: str) -> Iterator[Location]:
    """Where a person's named location is."""
    owners = range(uid, uid + 1)
    if base == "user-downloads":
        dirs: UserDirs = user_dirs(home, uid)
        locations = folder_location(dirs.downloads, name, uid) if dirs.downloads else iter(())
        for location in locations:
            location = replace(location, owners=owners, why=location.why or dirs.why)
            yield one_mount(home, location)
        return
    for path in _personal(base, uid, home):
        for location in folder_location(path, name, uid):
            base_of = home if path.startswith(home) else "/"
            yield one_mount(base_of, replace(location, owners=owners))


def one_mount(base: str, location: Location) -> Location:
    """A location with the reason, where something from elsewhere is mounted on the way to it."""
    if location.why:
        return location
    return replace(location, why=why_mounted_over(location.path, base) or "")


def _personal(base: Folder, uid: int, home: str) -> Iterator[str]:
    match base:
        case "user-temp":
            yield os.path.join(home, ".tmp")
            # where a per-person TMPDIR is made at sign-in (pam_tmpdir)
            yield f"/tmp/user/{uid}"
        case "user-trash":
            yield os.path.join(home, ".local/share/Trash")
        case "user-cache":
            yield os.path.join(home, ".cache")
        case "user-config":
            yield os.path.join(home, ".config")
        case "user-home":
            yield home


def _is_folder(path: str) -> bool:
    try:
        return stat.S_ISDIR(os.lstat(path).st_mode)
    except OSError:
        return False


def _is_sticky_folder(path: str) -> bool:
    try:
        mode = os.lstat(path).st_mode
    except OSError:
        return False
    return stat.S_ISDIR(mode) and bool(mode & stat.S_ISVTX)
