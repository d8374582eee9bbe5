"""Making and checking seals of the record, with a key that lies beside the shop's file."""

from __future__ import annotations

import os
from itertools import islice
from pathlib import Path

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from phylax.core import proofs, seals
from phylax.core.proofs import EntryProof, ProofCheck
from phylax.core.records import first_form
from phylax.core.seals import Opened, Seal, SealCheck, Sealed, SealKey
from phylax.core.values import from_seconds
from phylax.service.context.context import Context
from phylax.store import audit, generation, records, shop
from phylax.store import seals as store
from phylax.store.database import Connection

KEY = "seal-key.pem"


def make(context: Context) -> Seal:
    """Seal the record as it is now."""
    key, name = _key(context), ""
    with context.db.write() as conn:
        name = _name(conn)
        text = seals.body(_now(conn, name, context.now()))
        public = _public(key)
        note = seals.note(text, name, public, key.sign(text.encode()))
        return store.add(conn, note, seals.opened(note).sealed.entries, at=context.now())


def prove(context: Context, record_id: int) -> EntryProof | None:
    """A proof that an entry is in the record, by a seal made now; None where it is not there."""
    seal = make(context)
    with context.db.read() as conn:
        kept = records.kept(conn, record_id)
        index = records.place_of(conn, record_id)
        digests = list(islice(records.digests(conn), seal.count))
    if kept is None or index >= seal.count:
        return None
    hashed = kept.hashed
    if hashed is None:
        hashed = first_form(kept.record, kept.record.previous)
    parts = {name: part for name, part in kept.parts.items() if part is not None}
    proof = proofs.written(hashed, parts, index, proofs.path_to(digests, index), seal.note)
    return EntryProof(entry=record_id, proof=proof)


def check_proof(context: Context, text: str) -> ProofCheck:
    """Whether an entry was in a record that this shop sealed; ValueError where it is no proof."""
    proof = proofs.taken_apart(text)
    sealed = proof.seal.sealed
    why = _why_not_ours(context, proof.seal) or proofs.why_not(proof)
    if why:
        return ProofCheck(holds=False, why=why, sealed_at=sealed.at)
    said = proofs.says(proof)
    return ProofCheck(
        holds=True,
        sealed_at=sealed.at,
        place=proof.place + 1,
        at=from_seconds(said["at"]),
        who=said["who"],
        text=said["text"],
    )


def _now(conn: Connection, name: str, at: int) -> Sealed:
    tree, count, head = seals.Tree(), 0, ""
    for head in records.digests(conn):
        tree.add(head)
        count += 1
    audited, audit_head = audit.head(conn)
    return Sealed(
        origin=name,
        entries=count,
        root=tree.root(),
        head=head,
        audit_count=audited,
        audit_head=audit_head,
        generation=generation.current(conn).name,
        at=from_seconds(at),
    )


def check(context: Context, written: str) -> SealCheck:
    """Whether the record still is what a seal says; ValueError where it is no seal."""
    note = seals.opened(written)
    if why := _why_not_ours(context, note):
        return _refused(note.sealed, why)
    with context.db.read() as conn:
        said = seals.compared(note.sealed, records.digests(conn), generation.current(conn).name)
        if said.holds and (why := audit.why_not(conn, note.sealed)):
            return _refused(note.sealed, why)
        return said


def _why_not_ours(context: Context, note: Opened) -> str:
    """Why a seal is not one of this shop's; empty: it is."""
    key = _key(context)
    with context.db.read() as conn:
        name = _name(conn)
    signature = note.signatures.get((name, seals.key_id(name, _public(key))))
    if signature is None:
        return "it is signed by another key than this shop's"
    try:
        key.public_key().verify(signature, note.text.encode())
    except InvalidSignature:
        return "its signature does not fit: the seal was altered"
    return ""


def _refused(sealed: Sealed, why: str) -> SealCheck:
    return SealCheck(holds=False, why=why, sealed_at=sealed.at, count=sealed.entries)


def public_key(context: Context) -> SealKey:
    pem = (
        _key(context)
        .public_key()
        .public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo)
    )
    with context.db.read() as conn:
        return SealKey(name=_name(conn), public_key=pem.decode())


def _name(conn: Connection) -> str:
    return f"phylax/{shop.uid(conn)}"


def _public(key: Ed25519PrivateKey) -> bytes:
    return key.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)


def _key(context: Context) -> Ed25519PrivateKey:
    """The shop's; made where there is none. It lies outside of the file, and so of its backups."""
    path = context.db.path.parent / KEY
    try:
        return _read(path)
    except FileNotFoundError:
        pass
    pem = Ed25519PrivateKey.generate().private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption(),
    )
    part = path.with_name(f"{path.name}.{os.getpid()}")
    with open(os.open(part, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600), "wb") as file:
        file.write(pem)
        file.flush()
        os.fsync(file.fileno())
    try:
        # of two at once one wins
        os.link(part, path)
    except FileExistsError:
        pass
    finally:
        part.unlink()
    return _read(path)


def _read(path: Path) -> Ed25519PrivateKey:
    key = serialization.load_pem_private_key(path.read_bytes(), None)
    if not isinstance(key, Ed25519PrivateKey):
        raise OSError(f"{path} holds no key of Ed25519")
    return key
