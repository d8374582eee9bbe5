"""Backups encrypted in the format of age (v1): to a public key, opened by the identity that the
owner keeps elsewhere, itself under a passphrase."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from hashlib import sha256
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import IO, NamedTuple

import pyrage
from zxcvbn import zxcvbn

from phylax.store.backups.copies import BadCopyError

END = ".age"
CLEAR = ".clear-"
"""How folders begin in which a backup lies in clear for a moment."""
_HEAD = b"age-encryption.org/v1\n"
_ARMORED = b"-----BEGIN AGE ENCRYPTED FILE-----"
_CHUNK = 1 << 20
LONGEST_IDENTITY = 100_000
_GOOD_ENOUGH = 4
"""Of four, by zxcvbn: who finds the paper has all the time there is."""


class NewKey(NamedTuple):
    """A key that was made: one half for the plan, the other for the safe."""

    public_key: str
    identity: bytes
    """Under its passphrase, as text that can be printed."""


def new_key(passphrase: str) -> NewKey:
    """ValueError where the passphrase is soon guessed."""
    # an empty one is beyond the judge
    judged = zxcvbn(passphrase[:72] or " ", user_inputs=["phylax", "backup"])
    if judged["score"] < _GOOD_ENOUGH:
        raise ValueError("Such a passphrase is soon guessed. Take four words or more, by chance.")
    identity = pyrage.x25519.Identity.generate()
    text = f"{identity}\n".encode()
    return NewKey(
        str(identity.to_public()), pyrage.passphrase.encrypt(text, passphrase, armored=True)
    )


def is_public_key(text: str) -> bool:
    try:
        pyrage.x25519.Recipient.from_str(text)
    except pyrage.RecipientError:
        return False
    return True


def encrypt(source: Path, target: Path, public_key: str) -> None:
    """Whole and on the disk when this returns: it is read back and compared. OSError."""
    recipient = pyrage.x25519.Recipient.from_str(public_key)
    part = target.with_name(f"{target.name}.part")
    part.unlink(missing_ok=True)
    try:
        with (
            source.open("rb") as plain,
            open(os.open(part, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as file,
        ):
            told = _Hashing(file)
            pyrage.encrypt_io(plain, told, [recipient])
            file.flush()
            os.fsync(file.fileno())
        if _digest(part) != told.digest:
            raise OSError(f"{part.name} was not written as it should be")
        os.replace(part, target)
    except BaseException:
        part.unlink(missing_ok=True)
        raise


class _Hashing:
    """A file, with the digest of all that was written."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file, self._hash = file, sha256()

    def write(self, data: bytes) -> int:
        self._hash.update(data)
        return self._file.write(data)

    def flush(self) -> None:
        self._file.flush()

    @property
    def digest(self) -> bytes:
        return self._hash.digest()


def _digest(path: Path) -> bytes:
    over = sha256()
    with path.open("rb") as file:
        while chunk := file.read(_CHUNK):
            over.update(chunk)
    return over.digest()


def is_encrypted(file: Path) -> bool:
    with file.open("rb") as opened:
        return opened.read(len(_HEAD)) == _HEAD


def identity_of(file: Path, passphrase: str | None) -> pyrage.x25519.Identity:
    """The identity in a file, under a passphrase or as it is. BadCopyError where it is none."""
    if file.stat().st_size > LONGEST_IDENTITY:
        raise BadCopyError(f"{file} holds no identity of age")
    text = file.read_bytes()
    if needs_passphrase(text):
        try:
            text = pyrage.passphrase.decrypt(text, passphrase or "")
        except pyrage.DecryptError as error:
            raise BadCopyError(f"the passphrase does not open {file}") from error
    for line in text.decode("utf-8", "replace").splitlines():
        if line.startswith("AGE-SECRET-KEY-"):
            try:
                return pyrage.x25519.Identity.from_str(line.strip())
            except pyrage.IdentityError:
                break
    raise BadCopyError(f"{file} holds no identity of age")


def needs_passphrase(text: bytes) -> bool:
    return text.lstrip().startswith((_ARMORED, _HEAD))


@contextmanager
def decrypted(file: Path, identity: pyrage.x25519.Identity, near: Path) -> Iterator[Path]:
    """A backup in clear, in a folder of its own that is gone afterwards. BadCopyError, OSError."""
    with TemporaryDirectory(dir=near, prefix=CLEAR) as folder:
        clear = Path(folder, file.name.removesuffix(END))
        try:
            with file.open("rb") as sealed, clear.open("xb") as plain:
                pyrage.decrypt_io(sealed, plain, [identity])
        except (pyrage.DecryptError, OSError) as error:
            if isinstance(error, OSError) and error.errno is not None:
                raise
            raise BadCopyError(
                "it is encrypted to another key, or it was altered or cut off"
            ) from error
        yield clear
