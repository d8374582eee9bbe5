"""A person's own folders, as `~/.config/user-dirs.dirs` names them in any language (xdg-user-dirs).

The file is the person's: it may be a pipe, a link to something endless, huge, in any encoding, or
name other people's folders. It is read only where it is a small regular file of theirs.
"""

from __future__ import annotations

import os
import re
import stat
from dataclasses import dataclass, field

_MOST = 64 * 1024
_LINE = re.compile(r'\s*XDG_(\w+)_DIR\s*=\s*"(.*)"\s*')
_USUAL = {
    "DOCUMENTS": "Documents", "PICTURES": "Pictures", "DESKTOP": "Desktop", "MUSIC": "Music",
    "VIDEOS": "Videos", "TEMPLATES": "Templates", "PUBLICSHARE": "Public",
}  # fmt: skip
_ALWAYS = ("Mail", ".thunderbird", ".ssh", ".gnupg")


@dataclass(frozen=True)
class UserDirs:
    """Where somebody keeps what is theirs."""

    sealed: tuple[str, ...]
    """Folders in which nothing is touched, as written and where they really are."""
    downloads: str | None
    why: str = field(default="")
    """Why the download folder cannot be looked at; empty where it can, or there is none."""


def user_dirs(home: str, uid: int) -> UserDirs:
    """The own folders of who lives in a home."""
    named, odd = _named(home, uid)
    written = [os.path.join(home, usual) for usual in (*_USUAL.values(), *_ALWAYS)]
    written += [path for key, path in named.items() if key != "DOWNLOAD"]
    # a folder that was turned off is named as the home itself
    written = [path for path in dict.fromkeys(map(os.path.normpath, written)) if path != home]
    sealed = tuple(dict.fromkeys((*written, *map(os.path.realpath, written))))
    downloads = os.path.normpath(named.get("DOWNLOAD", os.path.join(home, "Downloads")))
    if odd:
        return UserDirs(sealed, downloads, f"user-dirs.dirs {odd}")
    real = os.path.realpath(downloads)
    if real == os.path.realpath(home):
        return UserDirs(sealed, downloads, "never touched: it is the home itself")
    if not _is_in(real, os.path.realpath(home)):
        return UserDirs(sealed, downloads, "lies outside its person's home")
    for folder in sealed:
        if _is_in(real, folder) or _is_in(folder, real):
            return UserDirs(sealed, downloads, f"is, holds or lies in an own folder: {folder}")
    return UserDirs(sealed, downloads)


def _named(home: str, uid: int) -> tuple[dict[str, str], str]:
    """The folders that the file names, and what is odd about it."""
    try:
        text = _read_own(os.path.join(home, ".config/user-dirs.dirs"), uid)
    except FileNotFoundError:
        return {}, ""
    except OSError as error:
        return {}, error.strerror or str(error)
    named = {}
    for line in text.decode("utf-8", "surrogateescape").splitlines():
        if match := _LINE.fullmatch(line):
            path = re.sub(r"\\(.)", r"\1", match[2])
            if path == "$HOME" or path.startswith("$HOME/"):
                path = home + path.removeprefix("$HOME")
            if path.startswith("/") and "\0" not in path:
                named[match[1]] = path
    return named, ""


def _read_own(path: str, uid: int) -> bytes:
    """A small regular file of its owner's. What it is, is asked before it is opened for reading:
    opening some devices does something."""
    way = os.open(path, os.O_PATH | os.O_CLOEXEC)
    try:
        of = os.fstat(way)
        if not stat.S_ISREG(of.st_mode):
            raise OSError(22, "is not a regular file")
        if of.st_uid != uid:
            raise OSError(1, "belongs to somebody else")
        file = os.open(f"/proc/self/fd/{way}", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    finally:
        os.close(way)
    try:
        text = os.read(file, _MOST + 1)
    finally:
        os.close(file)
    if len(text) > _MOST:
        raise OSError(27, "is too large")
    return text


def _is_in(path: str, folder: str) -> bool:
    return path == folder or path.startswith(folder.rstrip("/") + "/")
