"""Names in folders by folder handles and in one step, following no link (POSIX.1-2008)."""

from __future__ import annotations

import errno
import os
import secrets
import stat
from base64 import b64decode, b64encode
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import PurePosixPath

from phylax.agent.tuning.errors import OddPieceError
from phylax.core.tuning.pieces import NOTHING, File, Folder, Link, Nothing, State

LARGEST = 256 * 1024
"""No file that is changed here is larger, in bytes."""
_TEMPORARY = ".phylax-new-"


def read(top: str, path: str) -> State:
    """What lies at a path below `top`. OSError where that cannot be told."""
    try:
        with _folder_of(top, path) as (folder, name):
            return _read_at(folder, name)
    except FileNotFoundError:
        return NOTHING


def write(top: str, path: str, state: State) -> None:
    """Make a name what `state` says, in one step and on the disk. OSError where it cannot be."""
    with _folder_of(top, path) as (folder, name):
        match state:
            case Nothing():
                _remove(folder, name)
            case Folder():
                os.mkdir(name, 0o700, dir_fd=folder)
                os.chmod(name, state.mode, dir_fd=folder)
            case Link() | File():
                _replace(folder, name, state)
        os.fsync(folder)


def sweep(top: str, path: str) -> None:
    """Remove what an interrupted `write` left beside a name."""
    with suppress(OSError), _folder_of(top, path) as (folder, _):
        for name in os.listdir(folder):
            if name.startswith(_TEMPORARY):
                os.unlink(name, dir_fd=folder)


@contextmanager
def _folder_of(top: str, path: str) -> Iterator[tuple[int, str]]:
    """A handle of the folder in which a path's last name lies, by folders and never by links."""
    parts = PurePosixPath(path).parts
    if not parts or path.startswith("/") or any(part in ("..", ".") for part in parts):
        raise OddPieceError(errno.EINVAL, "no path below the top folder", path)
    folder = os.open(top, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for part in parts[:-1]:
            flags = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
            inner = os.open(part, flags, dir_fd=folder)
            os.close(folder)
            folder = inner
        yield folder, parts[-1]
    finally:
        os.close(folder)


def _read_at(folder: int, name: str) -> State:
    st = os.stat(name, dir_fd=folder, follow_symlinks=False)
    if stat.S_ISLNK(st.st_mode):
        return Link(target=os.readlink(name, dir_fd=folder))
    if stat.S_ISDIR(st.st_mode):
        return Folder(mode=stat.S_IMODE(st.st_mode))
    if not stat.S_ISREG(st.st_mode):
        raise OddPieceError(errno.EINVAL, "neither a file, a link nor a folder", name)
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
    with open(os.open(name, flags, dir_fd=folder), "rb") as file:
        st = os.fstat(file.fileno())
        content = file.read(LARGEST + 1)
    if not stat.S_ISREG(st.st_mode) or len(content) > LARGEST:
        raise OddPieceError(errno.EFBIG, f"larger than {LARGEST} bytes, or no file", name)
    return File(
        content=b64encode(content).decode("ascii"),
        mode=stat.S_IMODE(st.st_mode),
        uid=st.st_uid,
        gid=st.st_gid,
    )


def _remove(folder: int, name: str) -> None:
    try:
        os.unlink(name, dir_fd=folder)
    except IsADirectoryError:
        os.rmdir(name, dir_fd=folder)


def _replace(folder: int, name: str, state: Link | File) -> None:
    temporary = f"{_TEMPORARY}{secrets.token_hex(6)}"
    try:
        if isinstance(state, Link):
            os.symlink(state.target, temporary, dir_fd=folder)
        else:
            _write_file(folder, temporary, state)
        os.replace(temporary, name, src_dir_fd=folder, dst_dir_fd=folder)
    except OSError:
        with suppress(FileNotFoundError):
            os.unlink(temporary, dir_fd=folder)
        raise


def _write_file(folder: int, name: str, state: File) -> None:
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    with open(os.open(name, flags, 0o600, dir_fd=folder), "wb") as file:
        file.write(b64decode(state.content))
        file.flush()
        if os.geteuid() == 0 and state.uid is not None and state.gid is not None:
            os.fchown(file.fileno(), state.uid, state.gid)
        os.fchmod(file.fileno(), state.mode)
        os.fsync(file.fileno())
