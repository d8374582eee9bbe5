"""What a machine is asked beyond files and settings: checks, lists of what it has, actions."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Protocol

from phylax.core.actions import Action, ActionPart, UnderWay
from phylax.core.checks.findings import Checked
from phylax.core.inventory import Inventory


class Watch(Protocol):
    """Is told how far long work is, and may raise to end it."""

    def __call__(self, done: int = 0, of: int | None = None) -> None: ...


class Restarting(Protocol):
    """How a machine is restarted. OSError where it cannot be asked."""

    def boot(self) -> str:
        """What the system calls the start under way."""
        ...

    def obstacles(self) -> Sequence[str]:
        """What must not be ended now, in words: unsaved work, a writing disc, an update."""
        ...

    def schedule(self, at: datetime, words: str) -> None:
        """Have it restart then, and tell everybody who is signed in."""
        ...

    def is_scheduled(self) -> bool:
        """Whether it still will; somebody may have put it off."""
        ...

    def cancel(self) -> None:
        """It does not restart after all."""
        ...


class UpkeepMachine(Protocol):
    """What a kind of machine is asked about its upkeep."""

    def check(self, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
        """What a check comes to, of each volume or disk that it is of, and what it lists. OSError
        where this kind of machine cannot check it."""
        ...

    def act(
        self, action: Action, watch: Watch, cut_off: UnderWay | None = None
    ) -> Iterator[ActionPart | UnderWay]:
        """Do something of the fixed set, part by part; done again after it was cut off, it comes
        to the same. What is `UnderWay` is begun when the next part is asked for; `cut_off` was
        under way when the same work was cut off. OSError where this kind of machine cannot do it.
        `watch` raises only where it is safe to end."""
        ...

    def restarting(self) -> Restarting: ...

    def usable_after(self) -> float | None:
        """Seconds from the start under way until the machine could be used; None: not known."""
        ...

    def failed_parts(self) -> Sequence[str] | None:
        """Parts of the system that failed to start; None: nobody can say."""
        ...
