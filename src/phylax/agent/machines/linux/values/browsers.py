"""Site data that goes when the browser closes: a policy of our own for browsers that read managed
policies as files (Chromium's policy format).

Cookies last as long as the browser is open, but for sites that the shop keeps. The ready-made
policy that clears data on closing clears kept sites too, so it is not used.
"""

from __future__ import annotations

import errno
import json
import os
from collections.abc import Iterator, Sequence
from typing import Final

from phylax.agent.machines.linux.startup import ini_files
from phylax.agent.tuning.pieces import read
from phylax.core.tuning.pieces import NOTHING, File, Folder, Piece
from phylax.core.tuning.verdicts import Seen

SETTING: Final = "browser-closing"
_BROWSERS = {
    "etc/chromium": "usr/bin/chromium",
    "etc/opt/chrome": "opt/google/chrome/chrome",
}
"""Where a browser reads its policies, and its program."""
_MANAGED, _OURS = "policies/managed", "90-phylax-closing.json"
_COOKIES, _KEPT = "DefaultCookiesSetting", "CookiesAllowedForUrls"
_WHILE_OPEN = 4


def values(root: str) -> Iterator[Seen]:
    """The setting, where there is such a browser."""
    there = _there(root)
    if not there:
        return
    if others := [path for folder in there for path in _others(root, folder)]:
        yield Seen(key=SETTING, unread=f"set by an administrator's own file: {others[0]}"[:500])
        return
    said = {_is_set(root, folder) for folder in there}
    if len(said) == 1:
        managed = os.path.join(root, there[0])
        yield Seen(key=SETTING, value=said.pop(), writable=os.access(managed, os.W_OK))
    else:
        yield Seen(key=SETTING, unread="its browsers do not do the same")


def pieces(root: str, value: bool, keeps: Sequence[str]) -> tuple[Piece, ...]:
    """What becomes of our policies; `keeps` are sites whose sign-ins stay. OSError where an
    administrator's own file would count beside ours."""
    made: list[Piece] = []
    for folder in _there(root):
        if others := _others(root, folder):
            raise OSError(errno.EEXIST, f"set by an administrator's own file: {others[0]}")
        path = f"{folder}/{_MANAGED}/{_OURS}"
        for part in (f"{folder}/policies", f"{folder}/{_MANAGED}"):
            if value and not os.path.isdir(os.path.join(root, part)):
                made.append(Piece(path=part, before=NOTHING, after=Folder()))
        before = read(root, path)
        after = File.of(_text(keeps)) if value else NOTHING
        if before != after:
            made.append(Piece(path=path, before=before, after=after))
    return tuple(made)


def _text(keeps: Sequence[str]) -> bytes:
    said = {_COOKIES: _WHILE_OPEN, _KEPT: [f"[*.]{site}" for site in sorted(set(keeps))]}
    return (json.dumps(said, indent=1) + "\n").encode()


def _there(root: str) -> list[str]:
    return [
        folder
        for folder, program in _BROWSERS.items()
        if os.path.isfile(os.path.join(root, program)) and os.path.isdir(os.path.join(root, folder))
    ]


def _policies(root: str, folder: str) -> Iterator[tuple[str, object]]:
    """Every policy file of a browser, as it says; what is none says nothing."""
    managed = os.path.join(root, folder, _MANAGED)
    try:
        names = sorted(os.listdir(managed))
    except OSError:
        return
    for name in names:
        text = ini_files.read_text(os.path.join(managed, name))
        try:
            yield name, json.loads(text or "{}")
        except ValueError:
            yield name, {}


def _others(root: str, folder: str) -> list[str]:
    return [
        f"/{folder}/{_MANAGED}/{name}"
        for name, said in _policies(root, folder)
        if name != _OURS and isinstance(said, dict) and said.keys() & {_COOKIES, _KEPT}
    ]


def _is_set(root: str, folder: str) -> bool:
    ours = dict(_policies(root, folder)).get(_OURS)
    return isinstance(ours, dict) and ours.get(_COOKIES) == _WHILE_OPEN
