"""What a survey is asked for, and who is told of what it sees."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Protocol

from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.protocol import CategoryRule
from phylax.core.protocol.trusted_time import Believed
from phylax.core.retention import ProtectEntry
from phylax.core.survey import Item, SurveyLine


class Stopped(Exception):
    """The work was told to stop."""


class OutOfTime(Stopped):
    """The work came to the moment by which it must have ended."""


class Watcher(Protocol):
    """Told how far the work is. May raise Stopped."""

    def __call__(self, category: str, items: int, size: int) -> None: ...


Listing = Callable[[str, Item], None]
"""Takes the items of categories whose listing is kept, one by one, with their category."""


@dataclass(frozen=True)
class SurveyTask:
    """What one look goes over, and by which time ages are counted."""

    rules: tuple[CategoryRule, ...]
    now: Believed
    protect: tuple[ProtectEntry, ...] = ()
    volumes: VolumeChoice = ALL_VOLUMES
    remember: bool = False
    """A survey keeps in mind which folders it saw (`arrivals`)."""

    @property
    def own_folders(self) -> tuple[str, ...]:
        return own_folders(self.rules)


@dataclass(frozen=True)
class SurveyListener:
    """Who hears of a survey while it goes on."""

    watch: Watcher = lambda category, items, size: None
    listing: Listing = lambda category, item: None
    part: Callable[[list[SurveyLine]], None] = lambda lines: None
    """Given the lines of each category as soon as they are known."""
    there: Callable[[ProtectEntry], None] = lambda entry: None
    """Given each folder of the protect list that is there."""


def own_folders(rules: Iterable[CategoryRule]) -> tuple[str, ...]:
    """The folders that the shop's rules name."""
    return tuple(folder for rule in rules for folder in rule.rule.folders)
