"""Reading and writing the pieces of a change, wherever they are kept."""

from __future__ import annotations

import errno
from collections.abc import Mapping
from typing import Protocol

from phylax.agent.tuning import pieces
from phylax.core.tuning.pieces import Piece, State


class SettingBackend(Protocol):
    """What reads and writes pieces. Each raises OSError where that cannot be done."""

    def read(self, piece: Piece) -> State: ...

    def write(self, piece: Piece, state: State) -> None:
        """In one step: whoever looks sees what was there or what is."""
        ...

    def sweep(self, piece: Piece) -> None:
        """Remove what an interrupted `write` left."""
        ...


class Port(Protocol):
    """Something that keeps values by names."""

    def read(self, path: str) -> State:
        """What is kept by a name; nothing, where it was not set."""
        ...

    def write(self, path: str, state: State) -> None: ...


class LocalSettingBackend:
    """Names below a top folder and below homes, and what ports keep, with the agent's rights."""

    def __init__(
        self,
        top: str,
        homes: Mapping[str, str] | None = None,
        ports: Mapping[tuple[str, str], Port] | None = None,
    ) -> None:
        """`homes` are people's, by name, whose files are within these rights; `ports` are by the
        person whose they are, or empty, and their name."""
        self._top = top
        self._homes = dict(homes or {})
        self._ports = dict(ports or {})

    def read(self, piece: Piece) -> State:
        if piece.port:
            return self._port(piece).read(piece.path)
        return pieces.read(self._folder(piece), piece.path)

    def write(self, piece: Piece, state: State) -> None:
        if piece.port:
            self._port(piece).write(piece.path, state)
        else:
            pieces.write(self._folder(piece), piece.path, state)

    def sweep(self, piece: Piece) -> None:
        if not piece.port:
            pieces.sweep(self._folder(piece), piece.path)

    def _folder(self, piece: Piece) -> str:
        if not piece.of:
            return self._top
        if piece.of not in self._homes:
            raise PermissionError(errno.EPERM, "nobody here has the rights of", piece.of)
        return self._homes[piece.of]

    def _port(self, piece: Piece) -> Port:
        port = self._ports.get((piece.of, piece.port))
        if port is None:
            raise OSError(errno.ENOTSUP, "is not kept on this machine", piece.port)
        return port
