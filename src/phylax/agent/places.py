"""Where a category's files lie on this machine: the catalogue's locations, resolved and guarded."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass

from phylax.agent.guard import Guard
from phylax.agent.machines import Location, MachineKind
from phylax.core.catalogue import Category, Where
from phylax.core.survey import Unread

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


@dataclass(frozen=True)
class Place:
    """One folder of a category: a location and the folders below it, opened one by one."""

    root: str
    below: tuple[str, ...]
    shown: str
    mount: str
    device: int
    user: str
    programs: frozenset[str]

    def open(self) -> int:
        """A handle on the folder. No part below the location may be a link (OSError ELOOP)."""
        handle = os.open(self.root, _FOLDER)
        for name in self.below:
            try:
                deeper = os.open(name, _FOLDER, dir_fd=handle)
            finally:
                os.close(handle)
            handle = deeper
        return handle


def open_folder(name: str, parent: int) -> int:
    """A handle on a folder in an open one, never through a link."""
    return os.open(name, _FOLDER, dir_fd=parent)


def places(
    machine: MachineKind, guard: Guard, category: Category, unread: list[Unread]
) -> Iterator[Place]:
    """Every place of a category there is on this machine, each once.

    Places that the guard forbids or that cannot be opened are added to `unread`.
    """
    seen: set[tuple[int, int]] = set()
    for where in category.on(machine.system):
        for location in machine.locations(where.base):
            for below in where.below:
                for place in _expand(machine, guard, where, location, below, unread):
                    try:
                        handle = place.open()
                    except OSError as error:
                        unread.append(Unread(path=place.shown, why=error.strerror or str(error)))
                        continue
                    found = os.fstat(handle)
                    os.close(handle)
                    if (found.st_dev, found.st_ino) not in seen:
                        seen.add((found.st_dev, found.st_ino))
                        yield place


def _expand(
    machine: MachineKind,
    guard: Guard,
    where: Where,
    location: Location,
    below: str,
    unread: list[Unread],
) -> Iterator[Place]:
    """The places a pattern stands for; `*` is one folder name, links do not count."""
    if why := guard.why_forbidden(location.path):
        unread.append(Unread(path=location.shown, why=why))
        return
    try:
        device = os.stat(location.path).st_dev
        found = list(_matches(location.path, [part for part in below.split("/") if part]))
    except OSError as error:
        unread.append(Unread(path=location.shown, why=error.strerror or str(error)))
        return
    for parts in found:
        yield Place(
            root=location.path,
            below=parts,
            shown=machine.join(location.shown, "/".join(parts)),
            mount=machine.mount_at(location.path),
            device=device,
            user=location.user,
            programs=frozenset(name.lower() for name in where.program),
        )


def _matches(root: str, parts: list[str]) -> Iterator[tuple[str, ...]]:
    handle = os.open(root, _FOLDER)
    try:
        yield from _matches_in(handle, parts, ())
    finally:
        os.close(handle)


def _matches_in(
    parent: int, parts: list[str], before: tuple[str, ...]
) -> Iterator[tuple[str, ...]]:
    if not parts:
        yield before
        return
    first, rest = parts[0], parts[1:]
    if first == "*":
        with os.scandir(parent) as entries:
            names = sorted(e.name for e in entries if e.is_dir(follow_symlinks=False))
    else:
        names = [first]
    for name in names:
        try:
            handle = open_folder(name, parent)
        except (FileNotFoundError, NotADirectoryError):
            continue
        except OSError:
            # a link (ELOOP) or a folder we may not enter: not this category's
            continue
        try:
            yield from _matches_in(handle, rest, (*before, name))
        finally:
            os.close(handle)
