"""What is held for people who are not there any more.

A user number may be given to somebody else. What was held for the one who had it before then lies
in a folder of that number: it is sealed, which is moved into a folder of root's that nobody else
passes. A person's own disk is left as it is: whoever has the number has all of it.
"""

from __future__ import annotations

import hashlib
import logging
import os
import pwd
import stat
from datetime import datetime, timedelta

from phylax.agent import files
from phylax.agent.files.walk import remove_tree
from phylax.agent.hold.index import HeldFor, HoldIndex, own_folder

_SEALED = "sealed"
MAY_BE_AWAY = timedelta(days=30)
"""So much longer what is held for an account that is not there is kept than its time."""
_log = logging.getLogger("phylax.agent")


def is_theirs(entry: HeldFor, account: str | None) -> bool:
    """Whether a user number is still that of the person something is held for, by the account that
    has it now."""
    if account is not None:
        return account == entry.person
    # somebody who never had a home is known by what is theirs in shared folders
    return entry.person == str(entry.uid) or owns_home(entry.home, entry.uid)


def account_of(uid: int) -> str | None:
    """The account that has a user number; None where there is none, or its directory is away."""
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return None


def owns_home(home: str, uid: int) -> bool:
    """Whether a home is there, a folder of its owner's and no link to it."""
    try:
        of = os.lstat(home)
    except OSError:
        return False
    return of.st_uid == uid and stat.S_ISDIR(of.st_mode)


class FormerPeople:
    """Seals what is held for people who have gone, and opens it where they are there again."""

    def __init__(self, index: HoldIndex) -> None:
        self._index = index

    def look(self, uid: int | None = None) -> None:
        """Seal and open as numbers are now, of everybody or of one number."""
        accounts: dict[int, str | None] = {}
        for entry in list(self._index.entries()):
            if uid is not None and entry.uid != uid:
                continue
            if entry.uid not in accounts:
                accounts[entry.uid] = account_of(entry.uid)
            theirs = is_theirs(entry, accounts[entry.uid])
            try:
                if not theirs and not entry.sealed:
                    self._seal(entry)
                elif theirs and entry.sealed:
                    self._open(entry)
            except OSError as error:
                _log.error("%s, held for %s: %s", entry.folder, entry.person, error)

    def may_go(self, entry: HeldFor, now: datetime) -> bool:
        """Whether a sealed batch may go when its time is over: not soon where its person may only
        be away, with their home and the directory of accounts."""
        return account_of(entry.uid) is not None or now >= entry.until_at + MAY_BE_AWAY

    def _seal(self, entry: HeldFor) -> None:
        top, name = os.path.split(entry.folder)
        if name != str(entry.uid):
            return
        handle = files.open_top(top)
        try:
            sealed = own_folder(_SEALED, handle, 0o700, 0, 0)
            try:
                inside = _sealed_name(entry)
                # several batches lie in one folder: the first took it along
                if not files.exists(inside, sealed):
                    files.move(name, handle, inside, sealed)
                    files.sync_folder(sealed)
                    files.sync_folder(handle)
            finally:
                files.close(sealed)
        finally:
            files.close(handle)
        folder = os.path.join(top, _SEALED, inside)
        self._index.put(entry.model_copy(update={"folder": folder, "sealed": True}))

    def _open(self, entry: HeldFor) -> None:
        """FileExistsError where the number has a folder of its own by now."""
        above, name = os.path.split(entry.folder)
        top = os.path.dirname(above)
        handle, sealed = files.open_top(top), files.open_top(above)
        try:
            if files.exists(name, sealed):
                files.move(name, sealed, str(entry.uid), handle)
                files.sync_folder(sealed)
                files.sync_folder(handle)
        finally:
            files.close(sealed)
            files.close(handle)
        folder = os.path.join(top, str(entry.uid))
        self._index.put(entry.model_copy(update={"folder": folder, "sealed": False}))

    def let_go(self, entry: HeldFor) -> bool:
        """Remove a sealed batch; whether nothing of it is left. Nobody else reaches it."""
        above, name = os.path.split(entry.folder)
        try:
            sealed = files.open_top(above)
        except FileNotFoundError:
            return True
        try:
            try:
                folder = files.open_folder(name, sealed)
            except FileNotFoundError:
                return True
            try:
                removed = remove_tree(entry.batch, folder, lambda path, why: None)
                is_last = removed.whole and files.is_empty(folder)
            finally:
                files.close(folder)
            if is_last:
                files.rmdir(name, sealed)
        finally:
            files.close(sealed)
        return removed.whole


def _sealed_name(entry: HeldFor) -> str:
    """One number may have been several people's."""
    return f"{entry.uid}-{hashlib.sha256(entry.person.encode()).hexdigest()[:16]}"
