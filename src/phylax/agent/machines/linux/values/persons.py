"""All settings of one value that a person has, with their rights."""

from __future__ import annotations

import errno
from collections.abc import Iterator, Mapping

from phylax.agent.machines.linux.values import permissions, session
from phylax.agent.tuning.setting_backend import Port
from phylax.core.ground.values import Scalar
from phylax.core.tuning.pieces import Piece
from phylax.core.tuning.verdicts import Seen


class PersonsValues:
    """What is kept for one person, by whatever keeps it."""

    def __init__(self, person: str, uid: int, home: str) -> None:
        self.person = person
        self._desktop = session.DesktopKeys(person, uid, home)
        self._permissions = permissions.Permissions(person, uid, home)

    @property
    def ports(self) -> Mapping[str, Port]:
        return {session.PORT: self._desktop, permissions.PORT: self._permissions}

    def values(self) -> Iterator[Seen]:
        """Everything that can be read; what cannot says why."""
        yield from self._desktop.values()
        yield from self._permissions.values()

    def pieces(self, setting: str, value: Scalar) -> tuple[Piece, ...]:
        """What a setting alters to become a value. OSError where it is none of theirs."""
        if setting in session.SETTINGS:
            return self._desktop.pieces(setting, bool(value))
        if setting in permissions.SETTINGS:
            return self._permissions.pieces(setting, bool(value))
        raise OSError(errno.ENOTSUP, "is not set on this machine", setting)
