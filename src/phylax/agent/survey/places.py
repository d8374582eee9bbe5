"""Where a category's files lie on this machine: the catalogue's locations, resolved and guarded.

A file belongs to one category, that of the innermost place it lies in: browsers' caches in a
person's cache folder are no "other programs' caches". `Territory` knows all places beforehand.
"""

from __future__ import annotations

import errno
import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from fnmatch import translate
from functools import cache

from phylax.agent import files
from phylax.agent.config.guard import Guard
from phylax.agent.files.walk import Complaint
from phylax.agent.machines import Location, MachineKind
from phylax.core.catalogue import Category, Folder, Source, Where, catalogue
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.retention import Caution
from phylax.core.survey import Unread, spell
from phylax.core.survey.file_stat import FileStat

_WILD = re.compile(r"[*?\[]")


@dataclass(frozen=True)
class Place:
    """One folder of a category: a location and the folders below it, opened one by one.

    For things that are no files it has no root, and `source` says where they come from.
    """

    root: str
    below: tuple[str, ...]
    shown: str
    mount: str
    device: int
    user: str
    programs: frozenset[str]
    names: tuple[str, ...] = ()
    leave: tuple[str, ...] = ()
    source: Source | None = None
    file: int = 0
    locks: tuple[str, ...] = ()
    """Real paths of the locks that its program keeps while it is open."""
    written: str = ""
    """As `shown`, but exactly as the system has the name: for the protect list."""
    owners: range | None = None
    """User numbers whose things may go; None: everyone's."""
    is_shared: bool = False
    """Everybody may put things there."""
    label: str = ""
    """What people call it, for instance a browser and its profile."""

    def barrier(self, path: str, about: FileStat) -> str | None:
        """Why a folder below the place is not entered: it is somebody else's, who may swap what
        lies in it. At the top of a shared place that is nobody's business."""
        if self.owners is None or about.st_uid in self.owners:
            return None
        return "" if self.is_shared and "/" not in path else "somebody else's"

    def is_foreign(self, of: FileStat) -> bool:
        return self.owners is not None and of.st_uid not in self.owners

    def open(self) -> int:
        """A handle on the folder. No part below the location may be a link (OSError ELOOP)."""
        return deeper(files.open_top(self.root), self.below)

    @property
    def path(self) -> str:
        return os.path.join(self.root, *self.below)

    @property
    def counts(self) -> Callable[[str], object] | None:
        """Which names count here; None: all."""
        return matcher(self.names)

    @property
    def leaves(self) -> Callable[[str], object] | None:
        """Which names are left out here; None: none."""
        return matcher(self.leave)


@cache
def matcher(patterns: tuple[str, ...]) -> Callable[[str], object] | None:
    """Whether a name fits one of some shell patterns, whatever its case; None without any."""
    if not patterns:
        return None
    return re.compile("|".join(map(translate, patterns)), re.IGNORECASE).match


def deeper(handle: int, below: Iterable[str]) -> int:
    """A handle on a folder below an open one, which is closed; no part of the way is a link."""
    for name in below:
        try:
            inner = files.open_folder(name, handle)
        finally:
            files.close(handle)
        handle = inner
    return handle


_UnreadOn = tuple[str | None, Unread]
"""A place that cannot be looked at, and its volume where that is known."""


class Territory:
    """All places of all categories on a machine, each folder once."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        volumes: Sequence[ReadingIn],
        own_folders: Iterable[str] = (),
        choice: VolumeChoice = ALL_VOLUMES,
    ) -> None:
        """`volumes` are the machine's, the system's first; `own_folders` those the shop names, as
        the machine's people write them; `choice` says on which volumes there is anything to do."""
        self._machine = machine
        self._guard = guard
        self._own = tuple(own_folders)
        self._choice = choice
        self.volumes = tuple(volumes)
        self.mount = volumes[0].mount if volumes else "/"
        """The system's volume, for what lies in no folder."""
        self.somewhere = next(iter(choice.of(v.mount for v in volumes)), self.mount)
        """A chosen volume, for what cannot be looked at wherever it lies."""
        self._places: dict[str, list[Place]] = {}
        self._unread: dict[str, list[_UnreadOn]] = {}
        claims: set[tuple[int, int]] = set()
        for kind in catalogue().values():
            unread: list[_UnreadOn] = []
            places = list(self._places_of(kind, unread))
            self._places[kind.key], self._unread[kind.key] = places, unread
            if kind.shape in ("files", "trash"):
                claims |= {(place.device, place.file) for place in places}
            elif kind.shape == "folders":
                claims |= {seal for place in places for seal in _item_folders(place)}
        self.claims = frozenset(claims).union(guard.own_folders(), guard.sealed_folders)
        """(device, file number) of every folder that is a place, or an item that is a folder, or
        the agent's own."""

    def places(self, key: str) -> list[Place]:
        """Of a category, on the chosen volumes."""
        return [place for place in self._places[key] if self._choice.covers(place.mount)]

    def unread(self, key: str) -> list[Unread]:
        """Places of a category that the guard forbids or that cannot be opened, as far as they are
        not known to lie on a volume that is not chosen."""
        return [
            entry
            for mount, entry in self._unread[key]
            if mount is None or self._choice.covers(mount)
        ]

    def is_elsewhere(self, key: str, shown: str) -> bool:
        """Whether a place of a category lies on a volume that is not chosen."""
        return any(
            place.shown == shown and not self._choice.covers(place.mount)
            for place in self._places[key]
        )

    def devices_left_out(self) -> set[int]:
        """Devices on which only places lie that are not chosen."""
        every = [place for places in self._places.values() for place in places]
        looked_at = {place.device for place in every if self._choice.covers(place.mount)}
        return {place.device for place in every} - looked_at

    def _places_of(self, kind: Category, unread: list[_UnreadOn]) -> Iterator[Place]:
        seen: set[tuple[int, int, tuple[str, ...]]] = set()
        for where in kind.on(self._machine.system):
            if where.source is not None:
                yield Place("", (), kind.name, self.mount, 0, "", frozenset(), source=where.source)
                continue
            for place in self._folders(kind, where, where.folder, unread):
                key = (place.device, place.file, place.names)
                if key not in seen:
                    seen.add(key)
                    yield place

    def _folders(
        self, kind: Category, where: Where, base: Folder, unread: list[_UnreadOn]
    ) -> Iterator[Place]:
        for location in self._locations(base):
            if location.why:
                unread.append((None, Unread(path=location.shown, why=location.why)))
                continue
            for below in where.below:
                yield from self._expand(kind, where, location, below, unread)

    def _locations(self, base: Folder) -> Iterator[Location]:
        if base != "own-folders":
            yield from self._machine.locations(base)
            return
        for shown in self._own:
            location = self._machine.named_folder(shown)
            if location is not None:
                yield location

    def _expand(
        self,
        kind: Category,
        where: Where,
        location: Location,
        below: str,
        unread: list[_UnreadOn],
    ) -> Iterator[Place]:
        """The places a pattern stands for; `*` stands in one folder name, links do not count."""
        mount: str | None = None
        try:
            parts_below = [part for part in below.split("/") if part]
            mount = self._machine.mount_at(location.path)
            odd = self._elsewhere(location, mount, unread)
            matches = list(_matches(location.path, parts_below, odd))
        except OSError as error:
            entry = Unread(path=location.shown, why=error.strerror or str(error))
            unread.append((mount, entry))
            return
        for parts, device, file in matches:
            place = Place(
                root=location.path,
                below=parts,
                shown=spell(self._machine.join(location.shown, "/".join(parts)))[0],
                written=self._machine.join(location.shown, "/".join(parts)),
                mount=mount,
                device=device,
                user=spell(location.user)[0],
                programs=frozenset(name.lower() for name in where.program),
                names=where.names,
                leave=where.leave,
                file=file,
                owners=location.owners,
                is_shared=location.is_shared,
                label=_labelled(where, parts),
            )
            place = replace(place, locks=tuple(self._locks(where, place)))
            if why := self._why_forbidden(kind, place):
                unread.append((mount, Unread(path=place.shown, why=why)))
                continue
            if not files.may_look_into(place.path):
                unread.append((mount, Unread(path=place.shown, why="Permission denied")))
                continue
            yield place

    def _elsewhere(self, location: Location, mount: str, unread: list[_UnreadOn]) -> Complaint:
        """Notes folders on the way to a place over which something else is mounted."""
        return lambda path, why: unread.append(
            (mount, Unread(path=self._machine.join(location.shown, path), why=why))
        )

    def _locks(self, where: Where, place: Place) -> Iterator[str]:
        for lock in where.locks:
            below = lock.below.split("/")
            if lock.base is None:
                yield os.path.join(place.path, *below)
                continue
            for location in self._machine.locations(lock.base):
                if location.user == place.user and not location.why:
                    yield os.path.join(location.path, *below)

    def _why_forbidden(self, kind: Category, place: Place) -> str | None:
        if kind.caution is Caution.REPORT or kind.shape in ("sites", "visits"):
            # only ever looked at; or files that the program's own tables let go row by row
            return None
        if kind.shape == "folders":
            # not the place itself goes, but folders in it: each is asked about by itself
            return None
        if self._guard.is_sealed(place.device, place.file):
            return "never touched: it is a sealed folder under another name"
        return self._guard.why_forbidden(place.path)


def _labelled(where: Where, parts: tuple[str, ...]) -> str:
    """A program's label with the profile, where the place is in one of several: the part of the way
    that a wild card stands for."""
    if not where.label:
        return ""
    for below in where.below:
        pattern = [part for part in below.split("/") if part]
        fits = len(pattern) == len(parts) and all(
            wanted == part or _WILD.search(wanted)
            for wanted, part in zip(pattern, parts, strict=True)
        )
        if fits:
            wild = (p for w, p in zip(pattern, parts, strict=True) if _WILD.search(w))
            profile = next(wild, "")
            return spell(f"{where.label}, {profile}")[0] if profile else where.label
    return where.label


def _item_folders(place: Place) -> Iterator[tuple[int, int]]:
    counts = place.counts
    assert counts is not None
    # one that vanished meanwhile claims nothing
    with suppress(OSError):
        handle = place.open()
        try:
            for name in filter(counts, files.folder_names(handle)):
                with suppress(OSError):
                    folder = files.open_folder(name, handle)
                    st = files.about(folder)
                    files.close(folder)
                    yield st.st_dev, st.st_ino
        finally:
            files.close(handle)


_Match = tuple[tuple[str, ...], int, int]
"""Folder names below a location, and the device and file number of the last."""


def _matches(root: str, parts: list[str], complain: Complaint) -> Iterator[_Match]:
    handle = files.open_top(root)
    try:
        yield from _matches_in(handle, parts, (), complain)
    finally:
        files.close(handle)


def _matches_in(
    parent: int, parts: list[str], before: tuple[str, ...], complain: Complaint
) -> Iterator[_Match]:
    if not parts:
        st = files.about(parent)
        yield before, st.st_dev, st.st_ino
        return
    first, rest = parts[0], parts[1:]
    if _WILD.search(first):
        fits = matcher((first,))
        assert fits is not None
        names = sorted(filter(fits, files.folder_names(parent)))
    else:
        names = [first]
    for name in names:
        try:
            handle = files.open_folder(name, parent)
        except PermissionError:
            if rest or _WILD.search(first):
                continue
            raise
        except OSError as error:
            # it is not there, or a link (ELOOP): not this category's
            if error.errno == errno.EXDEV:
                complain("/".join((*before, name)), error.strerror or str(error))
            continue
        try:
            yield from _matches_in(handle, rest, (*before, name), complain)
        finally:
            files.close(handle)
