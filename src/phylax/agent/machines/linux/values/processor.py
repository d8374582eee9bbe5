"""The lowest and highest share of its speed that the processor uses, as the kernel takes it
(`admin-guide/pm/intel_pstate`, `admin-guide/pm/cpufreq`), and the same again at each start
(`tmpfiles.d(5)`: a line `w` writes into a file of the kernel's)."""

from __future__ import annotations

import errno
import os
import re
from collections.abc import Iterator, Mapping
from typing import Final, NamedTuple

from phylax.agent.tuning.pieces import read as read_name
from phylax.core.tuning.pieces import NOTHING, File, Folder, Piece, State, StoredText
from phylax.core.tuning.verdicts import Seen

SETTINGS: Final = {"processor-lowest": "min", "processor-highest": "max"}
PORT: Final = "kernel-value"
_TOP = "sys/devices/system/cpu"
_WHOLE = f"{_TOP}/intel_pstate/{{}}_perf_pct"
_POLICIES = f"{_TOP}/cpufreq"
_ALLOWED = re.compile(
    rf"{_TOP}/(intel_pstate/(min|max)_perf_pct|cpufreq/policy[0-9]{{1,4}}/scaling_(min|max)_freq)"
)
_EACH_START = "etc/tmpfiles.d"


class _Share(NamedTuple):
    """Where a share is kept."""

    path: str
    whole: int
    """What the whole speed is there."""


class KernelValues:
    """Numbers that the kernel keeps in files, as a port."""

    def __init__(self, root: str) -> None:
        self._root = root

    def read(self, path: str) -> State:
        return StoredText(text=str(self._number(path)))

    def write(self, path: str, state: State) -> None:
        if not isinstance(state, StoredText) or not re.fullmatch(r"[0-9]{1,9}", state.text):
            raise OSError(errno.EINVAL, "is no number for the kernel", path)
        handle = self._open(path, os.O_WRONLY | os.O_TRUNC)
        try:
            os.write(handle, state.text.encode())
        finally:
            os.close(handle)

    def _open(self, path: str, flags: int) -> int:
        if not _ALLOWED.fullmatch(path):
            raise OSError(errno.EINVAL, "is not set by us", path)
        flags |= os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
        return os.open(os.path.join(self._root, path), flags)

    def _number(self, path: str) -> int:
        handle = self._open(path, os.O_RDONLY)
        try:
            return int(os.read(handle, 64))
        except ValueError:
            raise OSError(errno.EIO, "is no number", path) from None
        finally:
            os.close(handle)

    def shares(self, key: str) -> list[_Share]:
        """Where a setting's share is kept, of each group of cores; none on a machine without."""
        end = SETTINGS[key]
        if os.path.isfile(os.path.join(self._root, _WHOLE.format(end))):
            return [_Share(_WHOLE.format(end), 100)]
        shares = []
        for policy in sorted(_names(os.path.join(self._root, _POLICIES))):
            if re.fullmatch(r"policy[0-9]{1,4}", policy):
                folder = f"{_POLICIES}/{policy}"
                whole = _whole_of(os.path.join(self._root, folder, "cpuinfo_max_freq"))
                if whole > 0:
                    shares.append(_Share(f"{folder}/scaling_{end}_freq", whole))
        return shares

    def values(self) -> Iterator[Seen]:
        """Both settings, where the processor's speed can be set."""
        for key in SETTINGS:
            shares = self.shares(key)
            try:
                percents = {round(self._number(share.path) * 100 / share.whole) for share in shares}
            except OSError as failure:
                yield Seen(key=key, unread=(failure.strerror or str(failure))[:500])
                continue
            if len(percents) == 1:
                yield Seen(key=key, value=percents.pop(), writable=os.geteuid() == 0)
            elif percents:
                yield Seen(key=key, unread="its cores go by different shares")

    def pieces(self, key: str, percent: int) -> tuple[Piece, ...]:
        """What the kernel holds now, and the file that says it again at each start."""
        pieces: list[Piece] = []
        wanted: dict[str, str] = {}
        for share in self.shares(key):
            wanted[share.path] = str(share.whole * percent // 100)
        if not os.path.isdir(os.path.join(self._root, _EACH_START)):
            pieces.append(Piece(path=_EACH_START, before=NOTHING, after=Folder()))
        path = f"{_EACH_START}/90-phylax-{key}.conf"
        before = read_name(self._root, path) if not pieces else NOTHING
        pieces.append(Piece(path=path, before=before, after=File.of(_lines(wanted).encode())))
        pieces += [
            Piece(path=name, port=PORT, before=self.read(name), after=StoredText(text=text))
            for name, text in wanted.items()
        ]
        return tuple(piece for piece in pieces if piece.before != piece.after)


def _lines(wanted: Mapping[str, str]) -> str:
    return "# Written by Phylax; taken away when it is put back.\n" + "".join(
        f"w /{path} - - - - {text}\n" for path, text in wanted.items()
    )


def _names(folder: str) -> list[str]:
    try:
        return os.listdir(folder)
    except OSError:
        return []


def _whole_of(path: str) -> int:
    try:
        with open(path, encoding="ascii") as file:
            return int(file.read(64))
    except (OSError, ValueError):
        return 0
