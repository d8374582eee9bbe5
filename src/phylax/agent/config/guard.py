"""The guard: what is never touched on this machine, whatever an order says.

It is code on the machine. A stolen service can send rules and listings, but no paths: locations
come from this agent's own catalogue and machine kind, and each is held against what the kind seals
and what `guard.toml` says, which nobody but this machine's administrator can widen.
"""

from __future__ import annotations

import os
import stat
import sys
import tomllib
from collections.abc import Iterable, Iterator
from contextlib import suppress
from hashlib import blake2b
from pathlib import Path
from typing import Annotated, Literal

import tomli_w
from pydantic import Field

from phylax.agent.machines import HOLD, MachineKind
from phylax.core.catalogue import Category
from phylax.core.ground.values import Demand
from phylax.core.retention import Caution
from phylax.core.retention.protection import composed

GUARD_FILE = "guard.toml"
_THERE_WAS_ONE = "guard-was-here"
"""An empty file beside it, made when the guard was read."""
_Folders = Annotated[tuple[str, ...], Field(max_length=100)]


class GuardRules(Demand):
    """What `guard.toml` says."""

    allow_folders: _Folders = Field((), description="Folders that the shop may name here")
    never_touch: _Folders = Field((), description="Further folders in which nothing is touched")
    never_categories: tuple[str, ...] = Field((), description="Categories never cleaned here")
    never_programs: Annotated[tuple[str, ...], Field(max_length=200)] = Field(
        (), description="Programs of which nothing is ever switched here, by their keys"
    )
    never_settings: Annotated[tuple[str, ...], Field(max_length=200)] = Field(
        (), description="Settings that are never changed here, by their keys"
    )
    never_checks: Annotated[tuple[str, ...], Field(max_length=50)] = Field(
        (), description="Checks and actions that are never carried out here, by their keys"
    )
    restart: Literal["asked", "never"] = Field(
        "asked", description="Whether this machine is ever restarted by its agent"
    )
    hold_at_most_percent: int = Field(
        10, ge=0, le=50, description="Of no volume more than this share is held"
    )


_ABOUT_CLEANING = {"allow_folders", "never_touch", "never_categories", "hold_at_most_percent"}


class LooseGuardError(Exception):
    """Others than the administrator could widen the guard."""


def read_rules(folder: Path) -> GuardRules:
    """The guard's rules in an agent's folder; the defaults where there never was a file.

    LooseGuardError where others may write the file or its folder, where it is no plain file, or
    where there was one that is not there any more. ValueError (pydantic's, or TOML's) names what is
    wrong in it.
    """
    path = folder / GUARD_FILE
    if not os.path.lexists(path):
        if (folder / _THERE_WAS_ONE).exists():
            raise LooseGuardError(
                f"{path} was there and is gone: with it, what must never be touched here. Write it "
                f"again, or remove {folder / _THERE_WAS_ONE} if this machine is to have none"
            )
        return GuardRules()
    for checked in (path, folder):
        if why := _why_loose(checked):
            raise LooseGuardError(
                f"{checked} {why}; only the administrator of this machine may change it: "
                f"make it the agent's own and take the right to write from others"
            )
    rules = GuardRules.model_validate(tomllib.loads(path.read_text(encoding="utf-8")))
    _note_there_was_one(folder)
    return rules


def _note_there_was_one(folder: Path) -> None:
    """A guard that vanishes is no guard that never was. Where there is no room for the note, it is
    written another time."""
    with suppress(OSError):
        (folder / _THERE_WAS_ONE).touch(mode=0o600)


def write_rules(folder: Path, rules: GuardRules) -> None:
    """Write the file, for its owner alone to change. FileExistsError where there is one."""
    path = folder / GUARD_FILE
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL
    with os.fdopen(os.open(path, flags, 0o600), "w", encoding="utf-8") as file:
        file.write(
            "# Only the administrator of this machine may change this file: see docs/agent.md\n"
        )
        file.write(tomli_w.dumps(rules.model_dump(mode="json")))


def _why_loose(path: Path) -> str | None:
    """Why others could change a file or folder; None: they cannot. By the mode where there is one,
    on Windows by where the file lies, which the installation sees to."""
    if sys.platform == "win32":
        return None
    st = path.lstat()
    if not stat.S_ISREG(st.st_mode) and not stat.S_ISDIR(st.st_mode):
        return "is a link or no plain file"
    if st.st_uid not in (0, os.geteuid()):
        return "belongs to somebody else"
    if st.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        return "can be written by others"
    return None


class Guard:
    """Knows the sealed trees and the roots of one machine."""

    def __init__(
        self, machine: MachineKind, own: Iterable[str] = (), rules: GuardRules | None = None
    ) -> None:
        """`own` are the agent's folders, sealed like people's documents."""
        rules = rules or GuardRules()
        self._rules = rules

        def real(path: str) -> str:
            # to resolve what lies on a dead mount would be to wait for ever
            return os.path.realpath(path) if machine.may_ask(path) else os.path.normpath(path)

        self._may_ask = machine.may_ask
        self._own = [os.path.realpath(path) for path in own]
        self._further = [real(path) for path in rules.never_touch]
        self._sealed = [*map(real, machine.sealed()), *self._own]
        self._openings = [real(path) for path in machine.openings()]
        # as the kinds give them they are real: to resolve one might mean to ask a dead mount
        self._roots = list(machine.roots())
        self._sealed_inodes = frozenset(
            _inodes(filter(machine.may_ask, [*self._sealed, *self._further]))
        )
        self._never = frozenset(rules.never_categories)
        self.never_programs = frozenset(rules.never_programs)
        self.never_settings = frozenset(rules.never_settings)
        self.never_checks = frozenset(rules.never_checks)
        self.never_restarts = rules.restart == "never"

    def why_forbidden(self, path: str) -> str | None:
        """Why a location may not be looked through or cleaned, or None.

        Nothing that is, lies in or holds a sealed tree, but for the openings in it; and never a
        root, or what holds one. What the machine's own rules seal has no openings.
        """
        try:
            path = os.path.realpath(path)
        except OSError as error:
            # it changes while it is looked at
            return f"cannot be looked at: {error.strerror}"
        opening = max((o for o in self._openings if _is_at_or_in(path, o)), key=len, default="")
        for sealed in self._sealed:
            is_in = _is_at_or_in(path, sealed) and len(sealed) >= len(opening)
            if is_in or (_is_at_or_in(sealed, path) and not self._is_hold_in(sealed, path)):
                return f"never touched: {sealed}"
        for sealed in self._further:
            if _is_at_or_in(path, sealed) or _is_at_or_in(sealed, path):
                return f"never touched, by this machine's own rules: {sealed}"
        for root in self._roots:
            if _is_at_or_in(root, path):
                return f"never touched as a whole: {root}"
        return None

    def _is_hold_in(self, sealed: str, path: str) -> bool:
        """Whether a sealed folder is only the hold at the top of a volume that is a place itself,
        as where /var/log has a volume of its own: no walk enters it."""
        name = os.path.basename(sealed)
        return sealed in self._own and name.startswith(HOLD) and os.path.dirname(sealed) == path

    def why_not_category(self, key: str) -> str | None:
        """Why this machine never has a category cleaned, or None."""
        if key in self._never:
            return f"{key} is never cleaned on this machine, by its own guard.toml"
        return None

    @property
    def digest(self) -> str:
        """The same for the same rules about cleaning."""
        text = self._rules.model_dump_json(include=_ABOUT_CLEANING)
        return blake2b(text.encode(), digest_size=16).hexdigest()

    def in_words(self) -> str:
        """What its rules say of cleaning."""
        rules = self._rules
        said = [
            f"{what} {', '.join(named)}"
            for what, named in (
                ("never touched:", rules.never_touch),
                ("never cleaned:", rules.never_categories),
                ("the shop may name:", rules.allow_folders),
            )
            if named
        ]
        said.append(f"held at most: {rules.hold_at_most_percent} % of a volume")
        return "; ".join(said)

    def own_folders(self) -> Iterator[tuple[int, int]]:
        """(device, file number) of the agent's own folders that are there."""
        return _inodes(self._own)

    def is_sealed(self, device: int, number: int) -> bool:
        """Whether a folder, by what it is and however it was reached, is a sealed one."""
        return (device, number) in self._sealed_inodes

    @property
    def sealed_folders(self) -> frozenset[tuple[int, int]]:
        """(device, file number) of the sealed folders that are there."""
        return self._sealed_inodes


def _inodes(paths: Iterable[str]) -> Iterator[tuple[int, int]]:
    for path in paths:
        with suppress(OSError):
            of = os.stat(path)
            yield of.st_dev, of.st_ino


def why_not_cleaned(category: Category, *, agreed: bool) -> str | None:
    """Why this agent does not clean a category, by its own catalogue, or None."""
    if category.caution is Caution.REPORT:
        return f"{category.key} is only ever listed"
    if category.caution is Caution.ASK and not agreed:
        return f"{category.key} needs a consent to its listing"
    return None


def is_plain_path(path: str) -> bool:
    """Whether a path below a place is what it seems: relative, without '.', '..' or NUL."""
    return "\0" not in path and all(part not in ("", ".", "..") for part in path.split("/"))


def _is_at_or_in(path: str, root: str) -> bool:
    # where names differ by case alone they are the same, and everywhere where they differ only by
    # how accents are written
    path, root = composed(os.path.normcase(path)), composed(os.path.normcase(root))
    return path == root or path.startswith(root.rstrip(os.sep) + os.sep)
