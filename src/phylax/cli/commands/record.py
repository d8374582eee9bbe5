"""`phylax record`: the maintenance records."""

from __future__ import annotations

import sys
from datetime import datetime, timedelta
from itertools import islice
from pathlib import Path

import click

from phylax.cli.session.session import EXIT_REFUSED, Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import (
    Column,
    console,
    local,
    print_list,
    print_one,
    write_archive,
)
from phylax.cli.terminal.types import DAY, FILE
from phylax.core.ground.quantities import count, show_size
from phylax.core.record.records import Record, RecordKind


@click.group("record")
def command() -> None:
    """The maintenance records."""


@command.command("list")
@click.argument("words", required=False, default="")
@click.option("--machine", help="Only of this machine.")
@click.option("--client", help="Only of this client's machines.")
@click.option(
    "--kind",
    "kinds",
    multiple=True,
    type=click.Choice([kind.value for kind in RecordKind]),
    help="Only of this kind; may be repeated.",
)
@click.option("--who", default="", help="Only by this person.")
@click.option("--since", type=DAY, help="From this day on.")
@click.option("--until", type=DAY, help="Up to and with this day.")
@click.option("--most", default=40, show_default=True, help="At most so many.")
@shows_list(Record)
@pass_session
def list_records(
    session: Session,
    words: str,
    machine: str | None,
    client: str | None,
    kinds: tuple[str, ...],
    who: str,
    since: datetime | None,
    until: datetime | None,
    most: int,
    form: Form,
) -> None:
    """List entries, newest first; only those with all of WORDS, in the text, a tag, a client or a
    name. WORDS may have fields as well, as in 'fan machine:ferry-desk from:2026-11-01'."""
    zone = session.the_shop.clock
    columns = (
        Column("entry", lambda r: str(r.id), right=True),
        Column("when", lambda r: local(r.at, zone)),
        Column("machine", lambda r: r.machine_tag),
        Column("who", lambda r: r.who),
        Column("what", lambda r: "(its words were erased)" if r.erased else r.text),
        Column("freed", lambda r: "–" if r.freed is None else show_size(r.freed), right=True),
        Column("left", lambda r: "–" if r.left_count is None else str(r.left_count), right=True),
    )
    records = session.shop.records.list(
        machine=machine,
        client_id=session.shop.clients.find(client).id if client else None,
        kinds=[RecordKind(kind) for kind in kinds],
        who=who,
        since=since and since.replace(tzinfo=zone),
        until=until and (until + timedelta(days=1)).replace(tzinfo=zone),
        words=words,
    )
    print_list(form, islice(records, most), columns, empty="No such entries.")


@command.command("note")
@click.argument("machine")
@click.argument("text")
@click.option("--corrects", type=int, help="The entry that this one puts right.")
@click.option(
    "--attach",
    type=FILE,
    multiple=True,
    help="A picture or PDF that belongs to it; may be said more than once.",
)
@click.option("--call", "is_call", is_flag=True, help="It was said with the client.")
@shows_one(Record)
@pass_session
def add_note(
    session: Session,
    machine: str,
    text: str,
    corrects: int | None,
    attach: tuple[Path, ...],
    is_call: bool,
    form: Form,
) -> None:
    """Add TEXT to a machine's record."""
    uploads = [session.shop.records.upload(path.name[-120:], path.read_bytes()) for path in attach]
    made = session.shop.records.add_note(
        machine, text, corrects=corrects, is_call=is_call, attachments=uploads
    )
    print_one(form, made, [("entry", str(made.id)), ("machine", made.machine_tag)])


@command.command("seal")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path), required=False)
@pass_session
def seal(session: Session, file: Path | None) -> None:
    """Seal the record as it is now, into FILE or on the screen. Keep seals elsewhere: whoever holds
    one can tell later whether the record was altered or cut off."""
    made = session.shop.records.seal()
    if file is None:
        click.echo(made.note, nl=False)
    else:
        file.write_text(made.note, "utf-8")
        console.print(f"{count(made.count, 'entry')} sealed in {file}.")


@command.command("prove")
@click.argument("entry", type=int)
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path), required=False)
@pass_session
def prove(session: Session, entry: int, file: Path | None) -> None:
    """Prove that ENTRY is in the record, into FILE or on the screen. Whoever gets the proof can
    show later what was written, even if the record was altered since."""
    proof = session.shop.records.prove(entry).proof
    if file is None:
        click.echo(proof, nl=False)
    else:
        file.write_text(proof, "utf-8")
        console.print(f"The proof of entry {entry} is in {file}.")


@command.command("archive")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@pass_session
def archive(session: Session, file: Path) -> None:
    """Write the record with its chain into FILE, a ZIP: to be verified by anybody, without
    Phylax."""
    size = write_archive(session.shop.archives.record, file)
    console.print(f"{show_size(size)} in {file}. docs/chain.md has a program that verifies it.")


@command.command("verify")
@click.option("--seal", "sealed", type=FILE,
              help="A seal that was kept: whether the record still is what it says.")  # fmt: skip
@click.option("--proof", type=FILE, help="A proof that was kept: whether its entry was sealed.")
@pass_session
def verify(session: Session, sealed: Path | None, proof: Path | None) -> None:
    """Verify the chain of all entries; ends with 4 where it is broken."""
    if proof is not None:
        _verify_proof(session, proof)
        return
    check = session.shop.records.verify()
    if not check.intact:
        console.print(f"Broken at entry {check.broken_at}: {check.why}.")
        sys.exit(EXIT_REFUSED)
    console.print(f"{count(check.entries, 'entry')}, each fits the one before it.")
    if check.erased:
        console.print(f"Of {count(check.erased, 'entry')} words were erased, as the record says.")
    if sealed is None:
        return
    said = session.shop.records.check_seal(sealed.read_text("utf-8"))
    at = local(said.sealed_at, session.the_shop.clock)
    if not said.valid:
        console.print(f"It is not what was sealed {at}: {said.why}.")
        sys.exit(EXIT_REFUSED)
    console.print(
        f"{count(said.count, 'entry')} sealed {at}: all of them are there, as they were; "
        f"{count(said.since, 'entry')} came later."
    )


def _verify_proof(session: Session, file: Path) -> None:
    said = session.shop.records.check_proof(file.read_text("utf-8"))
    zone = session.the_shop.clock
    if not said.valid:
        console.print(f"It proves nothing: {said.why}.")
        sys.exit(EXIT_REFUSED)
    console.print(
        f"Entry number {said.position} was in the record sealed {local(said.sealed_at, zone)}. "
        f"{said.who or 'Somebody'} wrote {local(said.at, zone)}:"
    )
    console.print(said.text or "(the words are not in the proof)")
