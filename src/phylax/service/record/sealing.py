"""Making and checking seals of the record, with a key that lies beside the shop's file."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice
from sqlite3 import Connection

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from phylax.core.ground.values import from_seconds
from phylax.core.record import proofs, seals
from phylax.core.record.proofs import EntryProof, ProofCheck
from phylax.core.record.records import KeptEntry, first_form
from phylax.core.record.seals import Grown, Opened, Seal, SealCheck, Sealed, SealKey
from phylax.service.context.context import Context
from phylax.service.record import seal_keys
from phylax.store.backups import restore_epoch
from phylax.store.clients import shop
from phylax.store.record import audit, records
from phylax.store.record import seals as store


def make(context: Context) -> Seal:
    """Seal the record as it is now."""
    key = seal_keys.current(context)
    now = context.now()
    # a long record takes its time: nobody waits for the file meanwhile
    with context.db.read() as conn:
        name = _name(conn)
        sealed = _now(context, conn, name, now)
    text = seals.body(sealed)
    note = seals.note(text, name, seal_keys.public(key), key.sign(text.encode()))
    with context.db.write() as conn:
        return store.add(conn, note, sealed.entries, at=now)


def prove(context: Context, record_id: int) -> EntryProof | None:
    """A proof that an entry is in the record, by a seal made now; None where it is not there."""
    proved = prove_all(context, [record_id], make(context).note)
    return EntryProof(entry=record_id, proof=proved[0]) if proved else None


def prove_all(context: Context, record_ids: Sequence[int], note: str) -> list[str]:
    """Proofs that entries are in the record as a seal of this shop says it is; of what is not
    there, none."""
    count = seals.opened(note).sealed.entries
    with context.db.read() as conn:
        kept = {number: records.kept(conn, number) for number in record_ids}
        places = {number: records.place_of(conn, number) for number in record_ids}
        digests = list(islice(records.digests(conn), count))
    proved = [number for number in record_ids if _can_prove(kept[number], places[number], count)]
    paths = proofs.paths_to(digests, [places[number] for number in proved])
    written = []
    for number, path in zip(proved, paths, strict=True):
        entry = kept[number]
        assert entry is not None
        hashed = entry.hashed or first_form(entry.record, entry.record.previous)
        parts = {name: part for name, part in entry.parts.items() if part is not None}
        written.append(proofs.written(hashed, parts, places[number], path, note))
    return written


def _can_prove(entry: KeptEntry | None, place: int, count: int) -> bool:
    """Of the first form, without its words, an entry's digest cannot be computed anew."""
    if entry is None or place >= count:
        return False
    return entry.hashed is not None or not entry.erased_by


def check_proof(context: Context, text: str) -> ProofCheck:
    """Whether an entry was in a record that this shop sealed; ValueError where it is no proof."""
    proof = proofs.taken_apart(text)
    sealed = proof.seal.sealed
    why = _why_not_ours(context, proof.seal) or proofs.why_not(proof)
    if why:
        return ProofCheck(valid=False, why=why, sealed_at=sealed.at)
    said = proofs.says(proof)
    return ProofCheck(
        valid=True,
        sealed_at=sealed.at,
        position=proof.place + 1,
        at=from_seconds(said["at"]),
        who=said["who"],
        text=said["text"],
    )


def _grown(context: Context, conn: Connection) -> Grown:
    """The tree over all entries. What was sealed by this service before stays as it was then:
    were an older entry altered since, the seals would say so."""
    known = context.grown
    if (
        known is None
        or known.entries != records.place_of(conn, known.newest + 1)
        or known.head != records.digest_at(conn, known.newest)
    ):
        known = Grown(0, 0, "", seals.Tree())
    tree, newest, head, more = known.tree.copy(), known.newest, known.head, 0
    for number, digest in records.digests_after(conn, known.newest):
        tree.add(digest)
        newest, head, more = number, digest, more + 1
    context.grown = Grown(known.entries + more, newest, head, tree)
    return context.grown


def _now(context: Context, conn: Connection, name: str, at: int) -> Sealed:
    grown = _grown(context, conn)
    audited, audit_head = audit.head(conn)
    return Sealed(
        origin=name,
        entries=grown.entries,
        root=grown.tree.root(),
        head=grown.head,
        audit_count=audited,
        audit_head=audit_head,
        generation=restore_epoch.current(conn).name,
        at=from_seconds(at),
    )


def check(context: Context, written: str) -> SealCheck:
    """Whether the record still is what a seal says; ValueError where it is no seal."""
    note = seals.opened(written)
    if why := _why_not_ours(context, note):
        return _refused(note.sealed, why)
    with context.db.read() as conn:
        said = seals.compared(note.sealed, records.digests(conn), restore_epoch.current(conn).name)
        if said.valid and (why := audit.why_not(conn, note.sealed)):
            return _refused(note.sealed, why)
        return said


def _why_not_ours(context: Context, note: Opened) -> str:
    """Why a seal is not one of this shop's; empty: it is."""
    seal_keys.current(context)
    with context.db.read() as conn:
        name, known = _name(conn), store.keys(conn)
    believed = seal_keys.believed(known)
    for key in known:
        signature = note.signatures.get((name, seals.key_id(name, key.public_key)))
        if signature is None:
            continue
        try:
            Ed25519PublicKey.from_public_bytes(key.public_key).verify(signature, note.text.encode())
        except InvalidSignature:
            return "its signature does not fit: the seal was altered"
        if key.public_key in believed:
            return ""
        return (
            "it is signed by a key that was lost or taken away: nobody can say any more who "
            "signed with it"
        )
    return "it is signed by another key than this shop's"


def _refused(sealed: Sealed, why: str) -> SealCheck:
    return SealCheck(valid=False, why=why, sealed_at=sealed.at, count=sealed.entries)


def public_key(context: Context) -> SealKey:
    key = seal_keys.current(context)
    with context.db.read() as conn:
        name, known = _name(conn), store.keys(conn)
    older = [k for k in seal_keys.believed(known).values() if k.public_key != seal_keys.public(key)]
    return SealKey(
        name=name,
        public_key=seal_keys.as_pem(seal_keys.public(key)),
        older=tuple(seal_keys.as_pem(k.public_key) for k in older),
    )


def _name(conn: Connection) -> str:
    return f"phylax/{shop.uid(conn)}"
