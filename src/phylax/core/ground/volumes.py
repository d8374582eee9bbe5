"""Which of a machine's volumes some work is for: all, some, or all but some."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Annotated

from pydantic import AfterValidator, Field, model_validator

from phylax.core.ground.quantities import listed
from phylax.core.ground.values import Demand

_DRIVE = re.compile(r"([A-Za-z]):?[\\/]*")
_MOST = 50
_NAMED = 12
"""So many volumes are named where a wrong one is refused: a shop's machines have many."""


def plain_mount(name: str) -> str:
    """A volume as machines name it: ``c:\\`` is ``C:``, ``/home/`` is ``/home``. ValueError where
    it is no volume's name."""
    if drive := _DRIVE.fullmatch(name.strip()):
        return f"{drive[1].upper()}:"
    if not name.startswith("/"):
        raise ValueError(f"{name!r} is no volume; name it as the machine does, such as C: or /home")
    return name.rstrip("/") or "/"


VolumeName = Annotated[
    str, Field(min_length=1, max_length=1000, examples=["C:"]), AfterValidator(plain_mount)
]


class VolumeChoice(Demand):
    """Volumes by name: only these, or all but these. Neither: all."""

    only: Annotated[tuple[VolumeName, ...], Field(max_length=_MOST)] = ()
    but: Annotated[tuple[VolumeName, ...], Field(max_length=_MOST)] = ()

    @model_validator(mode="after")
    def _one_way(self) -> VolumeChoice:
        if self.only and self.but:
            raise ValueError("say which volumes, or all but which; not both")
        for way in ("only", "but"):
            object.__setattr__(self, way, tuple(dict.fromkeys(getattr(self, way))))
        return self

    @property
    def is_all(self) -> bool:
        return not self.only and not self.but

    @property
    def named(self) -> tuple[str, ...]:
        """Every volume that it names."""
        return self.only or self.but

    def covers(self, mount: str) -> bool:
        if self.only:
            return mount in self.only
        return mount not in self.but

    def of(self, mounts: Iterable[str]) -> list[str]:
        """Those of a machine's volumes that are chosen, in their order."""
        return [mount for mount in mounts if self.covers(mount)]

    def why_not(self, mounts: Sequence[str]) -> str:
        """What is wrong with it where these are all the volumes that there are; empty: nothing.

        A name that is nobody's is most often a slip of the keys, which `but` must not forgive.
        """
        if not mounts:
            return ""
        some = (
            [*mounts[:_NAMED], f"{len(mounts) - _NAMED} more"] if len(mounts) > _NAMED else mounts
        )
        have = f"there are {listed(some)}" if len(mounts) > 1 else f"there is {mounts[0]}"
        if unknown := [name for name in self.named if name not in mounts]:
            return f"there is no volume {unknown[0]}; {have}"
        return "" if self.of(mounts) else f"no volume is left of {listed(some)}"

    def in_words(self) -> str:
        """``C: and D: only``, ``all but D:``; empty for all."""
        if self.only:
            return f"{listed(self.only)} only"
        return f"all but {listed(self.but)}" if self.but else ""


ALL_VOLUMES = VolumeChoice()
