"""Sparse files with believable names, sizes and ages."""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from random import Random

GIB = 1024**3
_WORDS = (
    "harbour", "invoice", "tide", "regatta", "glaze", "hymn", "anchor", "scan", "kiln", "ledger",
    "choir", "mooring", "archive", "season", "visit", "plan", "order", "lantern",
)  # fmt: skip


class Tree:
    """A machine's folder tree while it is laid out."""

    def __init__(self, now: datetime, random: Random) -> None:
        self.now = now
        self.random = random
        self.total = 0
        self.in_use: list[Path] = []
        self._made: set[Path] = set()

    def file(self, path: Path, size: int, age_days: float) -> None:
        """A sparse file of a length and an age."""
        if path.parent not in self._made:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._made.add(path.parent)
        with path.open("wb") as file:
            file.truncate(size)
        at = (self.now - timedelta(days=age_days)).timestamp()
        os.utime(path, (at, at))
        self.total += size

    def files(
        self, many: tuple[int, float], ages: Callable[[], float], name: Callable[[int], Path]
    ) -> list[Path]:
        """So many files that add up to so many GiB, a few of them large, as files are."""
        number, gib = many
        weights = [self.random.paretovariate(1.1) for _ in range(number)]
        scale = gib * GIB / sum(weights)
        made = []
        for index, weight in enumerate(weights):
            path = name(index)
            self.file(path, max(1, int(weight * scale)), ages())
            made.append(path)
        return made

    def word(self) -> str:
        return f"{self.random.choice(_WORDS)}-{self.random.choice(_WORDS)}"
