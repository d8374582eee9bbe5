"""The key of the shop's seals, which lies beside its file: made, read, changed.

A change is signed by the key before, so that older seals are still believed. Where the key is gone
and another takes its place, that is said, and older seals are not believed any more.
"""

from __future__ import annotations

import os
from pathlib import Path
from sqlite3 import Connection

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from phylax.core.ground.values import to_seconds
from phylax.service.context.context import Context, system_clock
from phylax.store.file.database import Database
from phylax.store.file.shop_file import FILE, alone
from phylax.store.record import audit, seals
from phylax.store.record.seals import KeptKey

KEY = "seal-key.pem"
NEXT = "seal-key.next.pem"
_HANDED_OVER = b"phylax seal key\n"


def current(context: Context) -> Ed25519PrivateKey:
    """The shop's key; made where there is none. One that nobody handed over is said to be new."""
    folder = context.db.path.parent
    _finish_change(folder, context.db)
    key = _read_or_make(folder / KEY)
    with context.db.read() as conn:
        known = seals.keys(conn)
    if not known or known[-1].public_key != public(key):
        with context.db.write() as conn:
            _note_new(conn, public(key), at=context.now())
    return key


def _note_new(conn: Connection, public_key: bytes, *, at: int) -> None:
    known = seals.keys(conn)
    if known and known[-1].public_key == public_key:
        return
    seals.add_key(conn, public_key, None, at=at)
    if known:
        is_back = any(key.public_key == public_key for key in known)
        audit.record(
            conn, who="the service", at=at, action="seal key back" if is_back else "seal key lost",
            subject=f"from now on by {shown(public_key)}; seals by {shown(known[-1].public_key)} "
            "are not believed any more",
        )  # fmt: skip


def change(data: Path) -> str:
    """Take another key, signed by the one before, while no service runs; the new one's fingerprint.
    HeldError, NoShopError; OSError where there is no key that could sign."""
    with alone(data, "a change of its seals' key"):
        database = Database(data / FILE)
        try:
            _finish_change(data, database)
            old, new = _read(data / KEY), Ed25519PrivateKey.generate()
            _write(data / NEXT, new)
            with database.write() as conn:
                at = to_seconds(system_clock())
                _note_new(conn, public(old), at=at)
                signature = old.sign(_HANDED_OVER + public(new))
                seals.add_key(conn, public(new), signature, at=at)
                audit.record(
                    conn, who="the service's machine", at=at, action="change seal key",
                    subject=f"{shown(public(old))} handed over to {shown(public(new))}",
                )  # fmt: skip
            os.replace(data / NEXT, data / KEY)
        finally:
            database.close()
    return shown(public(new))


def _finish_change(folder: Path, database: Database) -> None:
    """One that was cut off: the new key counts if the file knows it."""
    if not (folder / NEXT).exists():
        return
    with database.read() as conn:
        known = seals.keys(conn)
    if known and known[-1].public_key == public(_read(folder / NEXT)):
        os.replace(folder / NEXT, folder / KEY)
    else:
        (folder / NEXT).unlink()


def believed(known: list[KeptKey]) -> dict[bytes, KeptKey]:
    """The keys whose seals are believed, by themselves: today's, and those that handed over to one
    that is."""
    chain: dict[bytes, KeptKey] = {}
    for older, newer in zip([None, *known][::-1][1:], known[::-1], strict=True):
        chain[newer.public_key] = newer
        if older is None or newer.handed_over is None:
            break
        signer = Ed25519PublicKey.from_public_bytes(older.public_key)
        try:
            signer.verify(newer.handed_over, _HANDED_OVER + newer.public_key)
        except InvalidSignature:
            break
    return chain


def public(key: Ed25519PrivateKey) -> bytes:
    return key.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)


def as_pem(public_key: bytes) -> str:
    return (
        Ed25519PublicKey.from_public_bytes(public_key)
        .public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)
        .decode()
    )


def shown(public_key: bytes) -> str:
    """By what people tell keys apart."""
    return public_key.hex()[:16]


def _read_or_make(path: Path) -> Ed25519PrivateKey:
    try:
        return _read(path)
    except FileNotFoundError:
        pass
    part = path.with_name(f"{path.name}.{os.getpid()}")
    _write(part, Ed25519PrivateKey.generate())
    try:
        # of two at once one wins
        os.link(part, path)
    except FileExistsError:
        pass
    finally:
        part.unlink()
    return _read(path)


def _write(path: Path, key: Ed25519PrivateKey) -> None:
    pem = key.private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption(),
    )
    with open(os.open(path, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600), "wb") as file:
        file.write(pem)
        file.flush()
        os.fsync(file.fileno())


def _read(path: Path) -> Ed25519PrivateKey:
    key = serialization.load_pem_private_key(path.read_bytes(), None)
    if not isinstance(key, Ed25519PrivateKey):
        raise OSError(f"{path} holds no key of Ed25519")
    return key
