"""Secrets that must be read again (keys of hooks, secrets of codes) lie in the shop's file
encrypted, by a key that does not: whoever has the file alone, or a backup of it, has none of them.

The key lies beside the file, or where `PHYLAX_SECRETS_KEY_FILE` says. Its file has one key a line
(Fernet: AES-128-CBC and HMAC-SHA-256), the newest first.
"""

from __future__ import annotations

import os
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken, MultiFernet

KEY_FILE = "PHYLAX_SECRETS_KEY_FILE"
BESIDE = "secrets-key"
_MARK = "sealed:"


class LostKeyError(Exception):
    """A secret was encrypted by a key that is not here."""


class SecretBox:
    """Closes and opens secrets; the key is read when it is first needed, and made where there is
    none."""

    def __init__(self, data: Path) -> None:
        """`data` is the folder of the shop's file."""
        self._path = Path(os.environ.get(KEY_FILE) or data / BESIDE)
        self._keys: MultiFernet | None = None

    def close(self, secret: str) -> str:
        """As it is kept."""
        return _MARK + self._all().encrypt(secret.encode()).decode()

    def open(self, kept: str) -> str:
        """The secret; one of an earlier version is kept as it is. LostKeyError."""
        if not kept.startswith(_MARK):
            return kept
        try:
            return self._all().decrypt(kept.removeprefix(_MARK)).decode()
        except InvalidToken as error:
            raise LostKeyError(
                f"it was encrypted by a key that is not in {self._path}: bring that key back, or "
                "make the secret anew"
            ) from error

    def is_of_newest(self, kept: str) -> bool:
        """Whether it is closed by the newest key."""
        if not kept.startswith(_MARK):
            return False
        try:
            Fernet(self._lines()[0]).decrypt(kept.removeprefix(_MARK))
        except InvalidToken:
            return False
        return True

    def add_key(self) -> None:
        """A new key, by which all is closed from now on; the older ones still open."""
        self._write([Fernet.generate_key().decode(), *self._lines()])

    def drop_older(self) -> None:
        """Only the newest key stays."""
        self._write(self._lines()[:1])

    def _all(self) -> MultiFernet:
        if self._keys is None:
            if not self._path.exists():
                self._write([Fernet.generate_key().decode()])
            self._keys = MultiFernet([Fernet(line) for line in self._lines()])
        return self._keys

    def _lines(self) -> list[str]:
        return self._path.read_text("ascii").split() if self._path.exists() else []

    def _write(self, keys: list[str]) -> None:
        part = self._path.with_name(f"{self._path.name}.{os.getpid()}")
        with open(os.open(part, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600), "w") as file:
            file.write("\n".join(keys) + "\n")
            file.flush()
            os.fsync(file.fileno())
        part.replace(self._path)
        self._keys = None
