"""Maintenance records: read, searched, added to, verified."""

from __future__ import annotations

from sqlite3 import Connection
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from phylax.core.ground.events import EventKind
from phylax.core.ground.values import Moment, from_seconds, to_seconds
from phylax.core.people.accounts import Role
from phylax.core.record.proofs import EntryProof, NewProofCheck, ProofCheck
from phylax.core.record.records import ChainCheck, Entry, NewNote, Record, RecordKind, verify
from phylax.core.record.seals import NewSealCheck, Seal, SealCheck, SealKey
from phylax.core.record.searching import read_search
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheChange
from phylax.service.http.paging import NEWEST, Before, Limit, page
from phylax.service.problems import documented, invalid, not_found
from phylax.service.record import sealing
from phylax.service.routes.lookup import check_known, find_machine, find_searched
from phylax.store.record import attachments, records, seals

router = APIRouter(prefix="/records", tags=["records"])


@router.get("", responses=documented(404, 422))
def list_records(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    machine: str | None = None,
    client_id: int | None = None,
    visit: Annotated[int | None, Query(description="Number of a visit")] = None,
    kind: Annotated[list[RecordKind], Query(description="Of these kinds")] = [],  # noqa: B006
    who: Annotated[str, Query(max_length=200, description="Who wrote it")] = "",
    since: Moment | None = None,
    until: Moment | None = None,
    words: Annotated[
        str,
        Query(
            max_length=200,
            description="All of these words, in the text, who wrote it, the machine's tag or its "
            "client's name; or fields: machine:, client:, by:, kind:, from:, to:",
            examples=["fan machine:ferry-desk from:2026-11-01"],
        ),
    ] = "",
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Record]:
    """Entries, newest first."""
    try:
        asked = read_search(words)
    except ValueError as error:
        raise invalid("/words", str(error)) from None
    with context.db.read() as conn:
        searched = find_searched(conn, asked)
        choice = records.RecordChoice(
            machine_id=find_machine(conn, machine).id if machine else searched.machine_id,
            client_id=client_id if client_id is not None else searched.client_id,
            visit_id=visit,
            kinds=(*kind, *asked.kinds),
            who=who,
            by=asked.by,
            since=to_seconds(since) if since else searched.since,
            until=to_seconds(until) if until else searched.until,
            words=asked.words,
            also_restricted=actor.role is Role.OWNER,
        )
        listed = records.records(conn, choice, before=before, limit=limit + 1)
    return page(listed, limit, request, response, "before")


@router.post("", status_code=201, response_model=Record, responses=documented(404, 409, 422))
def add_note(new: NewNote, change: TheChange) -> Response:
    """Write something into a machine's record."""

    def act(conn: Connection) -> Record:
        check_known(conn, find_machine(conn, str(new.machine_id)).client_id)
        if new.corrects is not None:
            wrong = records.record(conn, new.corrects)
            if wrong is None or wrong.machine_id != new.machine_id:
                raise invalid("/corrects", f"this machine's record has no entry {new.corrects}")
        attached = attachments.to_be_used(conn, new.attachments, change.who)
        if attached is None:
            raise invalid("/attachments", "not all of these are uploads of yours of no entry")
        record_id = records.append(
            conn,
            Entry(
                machine_id=new.machine_id,
                at=from_seconds(change.now),
                who=change.who,
                kind=new.kind,
                text=new.text,
                corrects=new.corrects,
                attachments=tuple(each.sha256 for each in attached) or None,
            ),
        )
        attachments.tie(conn, [each.id for each in attached], record_id)
        change.tell(conn, EventKind.RECORD, new.machine_id)
        made = records.record(conn, record_id)
        assert made is not None
        return made

    return change.once(new, act)


@router.get("/authors")
def list_authors(context: TheContext, actor: Signed) -> list[str]:
    """Everybody and everything that wrote an entry, by name."""
    with context.db.read() as conn:
        return records.authors(conn)


@router.get("/verification")
def verify_chain(context: TheContext, actor: Signed) -> ChainCheck:
    """Follow the digests from the first entry to the last."""
    with context.db.read() as conn:
        checked = verify(records.chain(conn))
        altered = next(attachments.altered(conn), None) if checked.intact else None
    if altered is None:
        return checked
    return checked.model_copy(
        update={
            "intact": False,
            "broken_at": altered,
            "why": "a picture or PDF of it is not what was hashed: it was altered",
        }
    )


@router.post("/verification", responses=documented(422))
def check_seal(asked: NewSealCheck, context: TheContext, actor: Signed) -> SealCheck:
    """Whether the record and the audit still are what a seal that somebody kept says."""
    try:
        return sealing.check(context, asked.note)
    except ValueError as error:
        raise invalid("/note", str(error)) from None


@router.post("/{entry}/proof", status_code=201, responses=documented(404))
def prove_entry(entry: int, change: TheChange) -> EntryProof:
    """A proof that an entry is in the record, by a seal made now: it needs nobody's word."""
    proof = sealing.prove(change.context, entry)
    if proof is None:
        raise not_found("entry", entry)
    return proof


@router.post("/proofs/verification", responses=documented(422))
def check_proof(asked: NewProofCheck, context: TheContext, actor: Signed) -> ProofCheck:
    """Whether an entry was in a record that this shop sealed."""
    try:
        return sealing.check_proof(context, asked.proof)
    except ValueError as error:
        raise invalid("/proof", str(error)) from None


@router.get("/seals")
def list_seals(context: TheContext, actor: Signed) -> list[Seal]:
    """The newest seals, the newest first."""
    with context.db.read() as conn:
        return seals.listed(conn, most=100)


@router.post("/seals", status_code=201)
def make_seal(change: TheChange) -> Seal:
    """Seal the record as it is now: whoever keeps the seal can tell later what was altered."""
    return sealing.make(change.context)


@router.get("/seal-key")
def seal_key(context: TheContext, actor: Signed) -> SealKey:
    """The public key by which seals are checked."""
    return sealing.public_key(context)
