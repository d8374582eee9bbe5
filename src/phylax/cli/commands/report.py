"""`phylax report`: what a client gets to read."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, console, local, print_list, print_one
from phylax.cli.terminal.types import DAY, FILE
from phylax.core.reporting.document import Block, Bullets, Document, Drawing, Heading, Table
from phylax.core.reporting.request import Letterhead, Part, Report, ReportRequest


@click.group("report")
def command() -> None:
    """What a client gets to read: made, kept, printed, sent."""


def _about(function: click.decorators.FC) -> click.decorators.FC:
    for option in reversed(
        (
            click.option("--visit", type=int, help="Over this visit."),
            click.option("--machine", help="Over this machine, in a span."),
            click.option("--client", type=int, help="Over this client's machines, by number."),
            click.option("--from", "first", type=DAY, help="First day; a month ago if left out."),
            click.option("--to", "last", type=DAY, help="Last day; today if left out."),
            click.option(
                "--language", type=click.Choice(["en", "de"]), help="The letterhead's, if left out."
            ),
            click.option(
                "--leave-out",
                type=click.Choice([part.value for part in Part]),
                multiple=True,
                help="Leave this part out; may be said more than once.",
            ),
            click.option("--cover", default="", help="A covering sentence."),
            click.option(
                "--note",
                "notes",
                type=int,
                multiple=True,
                help="Number of a note that goes in as it is written.",
            ),
        )
    ):
        function = option(function)
    return function


def _asked(
    session: Session,
    *,
    visit: int | None,
    machine: str | None,
    client: int | None,
    first: datetime | None,
    last: datetime | None,
    language: str | None,
    leave_out: tuple[str, ...],
    cover: str,
    notes: tuple[int, ...],
) -> ReportRequest:
    if [visit, machine, client].count(None) != 2:
        raise click.UsageError("Name what it is over: --visit, --machine or --client.")
    return ReportRequest.model_validate(
        {
            "visit": visit,
            "machine_id": session.shop.machines.get(machine).id if machine else None,
            "client_id": client,
            "first": first.date() if first else None,
            "last": last.date() if last else None,
            "language": language or session.shop.reports.letterhead().language,
            "leave_out": leave_out,
            "cover": cover,
            "notes": notes,
        }
    )


@command.command("preview")
@_about
@pass_session
def preview(session: Session, /, **about: object) -> None:
    """Show how a report would read; nothing is kept."""
    _print_document(session.shop.reports.preview(_asked(session, **about)))  # type: ignore[arg-type]


@command.command("make")
@_about
@click.option(
    "--file",
    "-o",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Write the PDF there too.",
)
@shows_one(Report)
@pass_session
def make(session: Session, /, file: Path | None, form: Form, **about: object) -> None:
    """Make a report, and keep it as it is."""
    made = session.shop.reports.make(_asked(session, **about))  # type: ignore[arg-type]
    if file:
        file.write_bytes(session.shop.reports.pdf(made.id))
    _print(session, made, form)
    if form.is_table and not file:
        console.print(f"The PDF: phylax report save {made.id} -o FILE", highlight=False)


@command.command("list")
@click.option("--client", "client_id", type=int, help="Of this client, by number.")
@click.option("--machine", help="Of this machine.")
@shows_list(Report)
@pass_session
def list_reports(session: Session, client_id: int | None, machine: str | None, form: Form) -> None:
    """List the reports that were made, the newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("report", lambda r: str(r.id), right=True),
        Column("client", lambda r: r.client_name),
        Column("title", lambda r: r.title),
        Column("span", lambda r: f"{r.first} to {r.last}"),
        Column("made", lambda r: f"{local(r.made_at, zone)} by {r.made_by}"),
        Column("sent to", lambda r: r.sent_to),
    )
    listed = session.shop.reports.list(client_id=client_id, machine=machine)
    print_list(form, listed, columns, empty="No report was made yet.")


@command.command("show")
@click.argument("report", type=int)
@shows_one(Report)
@pass_session
def show(session: Session, report: int, form: Form) -> None:
    """Show a report as it was made."""
    kept = session.shop.reports.get(report)
    if not form.is_table:
        _print(session, kept, form)
        return
    _print_document(kept.document)
    if kept.seal:
        console.print(f"\nStands on {len(kept.entries)} entries, sealed:", highlight=False)
        click.echo(kept.seal)


@command.command("save")
@click.argument("report", type=int)
@click.option(
    "--file", "-o", type=click.Path(dir_okay=False, path_type=Path), required=True,
    help="Where to write it.",
)  # fmt: skip
@click.option("--proofs", is_flag=True, help="The proofs of its entries, instead of the PDF.")
@pass_session
def save(session: Session, report: int, file: Path, proofs: bool) -> None:
    """Write a report's PDF to a file."""
    if proofs:
        file.write_text(session.shop.reports.proofs(report), "utf-8")
    else:
        file.write_bytes(session.shop.reports.pdf(report))
    click.echo(f"Written to {file}.")


@command.command("mail")
@click.argument("report", type=int)
@click.option("--to", required=True, help="The address that it goes to.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_session
def mail(session: Session, report: int, to: str, yes: bool) -> None:
    """Send a report to its client."""
    kept = session.shop.reports.get(report)
    ask(f"Send '{kept.title}' of {kept.client_name} to {to}?", yes=yes)
    session.shop.reports.mail(report, to)
    click.echo(f"It goes to {to}.")


@command.command("set-letterhead")
@click.option("--head", help="What stands on top; '\\n' begins a new line.")
@click.option("--foot", help="What stands at the foot of each page.")
@click.option("--terms", help="The shop's terms, on each claim slip.")
@click.option("--language", type=click.Choice(["en", "de"]), help="Of reports, if nothing is said.")
@click.option(
    "--mark",
    type=FILE,
    help="The shop's mark: an SVG, PNG or JPEG.",
)
@click.option("--no-mark", is_flag=True, help="Take the mark away.")
@shows_one(Letterhead)
@pass_session
def letterhead(
    session: Session, /, mark: Path | None, no_mark: bool, form: Form, **changes: str | None
) -> None:
    """Show or change the head and foot of the shop's papers."""
    current = session.shop.reports.letterhead()
    wanted = {name: text.replace("\\n", "\n") for name, text in changes.items() if text is not None}
    if wanted:
        current = session.shop.reports.change_letterhead(current, **wanted)
    if mark:
        current = session.shop.reports.put_mark(current, mark.read_bytes())
    if no_mark:
        session.shop.reports.take_mark_away(current)
        current = session.shop.reports.letterhead()
    pairs = [
        ("head", current.head), ("foot", current.foot), ("terms", current.terms),
        ("language", current.language), ("mark", current.mark or "none"),
    ]  # fmt: skip
    print_one(form, current, pairs)


def _print(session: Session, report: Report, form: Form) -> None:
    zone = session.the_shop.clock
    pairs = [
        ("report", str(report.id)),
        ("title", report.title),
        ("client", report.client_name),
        ("machines", ", ".join(report.machine_tags)),
        ("span", f"{report.first} to {report.last}"),
        ("stands on", f"{len(report.entries)} entries of the record"),
        ("made", f"{local(report.made_at, zone)} by {report.made_by}"),
        ("sent to", report.sent_to),
    ]
    print_one(form, report, [(name, value) for name, value in pairs if value])


def _print_document(document: Document) -> None:
    # what people and machines wrote moves no cursor
    for text in ("\n".join((document.title, *document.lines)), *map(_in_lines, document.blocks)):
        console.print(f"{text}\n", markup=False, highlight=False, soft_wrap=True)


def _in_lines(block: Block) -> str:
    match block:
        case Heading():
            return block.text.upper() if block.level == 2 else block.text
        case Bullets():
            return "\n".join(f"- {line}" for line in block.lines)
        case Table():
            names = tuple(column.name for column in block.columns)
            return "\n".join(" | ".join(cells) for cells in (names, *block.rows))
        case Drawing():
            return block.alt_text
        case _:
            return block.text
