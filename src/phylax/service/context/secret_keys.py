"""The key of the secrets in the shop's file: those of earlier versions closed, a new key taken."""

from __future__ import annotations

import logging
from pathlib import Path

from phylax.service.context.context import Context
from phylax.service.context.secret_box import LostKeyError, SecretBox
from phylax.store.file import secrets
from phylax.store.file.database import Database
from phylax.store.file.shop_file import FILE, alone

_log = logging.getLogger("phylax.service")


def close_all(context: Context) -> None:
    """What an earlier version left open is closed."""
    with context.db.write() as conn:
        secrets.change_all(conn, lambda kept: _closed(context.vault, kept))


def new_key(data: Path) -> int:
    """Close all secrets by a new key, while no service runs; how many. HeldError, NoShopError.

    Cut off anywhere, each secret can be opened by a key that is there.
    """
    with alone(data, "a change of its key"):
        vault, database = SecretBox(data), Database(data / FILE)
        try:
            vault.add_key()
            with database.write() as conn:
                changed = secrets.change_all(conn, lambda kept: _closed(vault, kept))
        finally:
            database.close()
        vault.drop_older()
        return changed


def _closed(vault: SecretBox, kept: str) -> str:
    if vault.is_of_newest(kept):
        return kept
    try:
        return vault.close(vault.open(kept))
    except LostKeyError as lost:
        _log.error("a secret in the shop's file cannot be read: %s", lost)
        return kept
