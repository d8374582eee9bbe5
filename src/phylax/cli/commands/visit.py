"""`phylax visit`: machines that are in hand."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, console, local, print_list, print_one
from phylax.cli.terminal.types import DAY
from phylax.core.desk.orders import NewPart, OrderedPart, PartState, ReadyToFetch
from phylax.core.desk.visits import HandOver, NewVisit, NextTurn, Turn, Visit
from phylax.core.ground.quantities import count


@click.group("visit")
def command() -> None:
    """Visits: machines checked in, worked on, handed over."""


@command.command("list")
@click.option("--machine", help="All visits of this machine; else those that are open.")
@shows_list(Visit)
@pass_session
def list_visits(session: Session, machine: str | None, form: Form) -> None:
    """List the visits that are open, the overdue first."""
    zone = session.the_shop.clock
    columns = (
        Column("visit", lambda v: str(v.id), right=True),
        Column("machine", lambda v: v.machine_tag),
        Column("client", lambda v: v.client_name),
        Column("waiting for", lambda v: str(v.outcome) if v.closed_at else _turn(v)),
        Column("next step", lambda v: "" if v.closed_at else v.todo),
        Column("due", lambda v: _until(v)),
        Column("location", lambda v: f"{v.place} {v.shelf}".strip()),
        Column("since", lambda v: local(v.opened_at, zone)),
    )
    visits = session.shop.visits.list(machine=machine) if machine else session.shop.visits.board()
    print_list(form, visits, columns, empty="No visit is open.")


def _turn(visit: Visit) -> str:
    return visit.assignee_name or str(visit.turn)


def _until(visit: Visit) -> str:
    day = visit.follow_up_on or visit.due_on
    return f"{day or '–'}{' overdue' if visit.overdue else ''}"


@command.command("open")
@click.argument("machine")
@click.option(
    "--problem", "reported_problem", default="", help="What is wrong, in the client's words."
)
@click.option("--condition", default="", help="Scratches, dents.")
@click.option("--accessories", default="", help="As in 'charger, bag'.")
@click.option("--due", "due_on", type=DAY, help="As in 2026-12-04.")
@click.option(
    "--approval-limit", type=click.IntRange(0), help="Call before spending more than this."
)
@click.option("--loaner", default="", help="The device they got to use meanwhile.")
@click.option("--shelf", default="")
@click.option(
    "--earlier-visit",
    "earlier_visit_id",
    type=int,
    help="The earlier visit that it comes back from.",
)
@click.option(
    "--how",
    "kind",
    type=click.Choice(["at the bench", "at the client's", "from afar"]),
    default="at the bench",
    show_default=True,
)
@shows_one(Visit)
@pass_session
def open_visit(
    session: Session, /, machine: str, due_on: datetime | None, form: Form, **fields: object
) -> None:
    """Check in MACHINE for a visit."""
    current = session.shop.machines.get(machine)
    place = "shelf" if fields["kind"] == "at the bench" else "client"
    made = session.shop.visits.open(
        NewVisit.model_validate(
            fields | {"machine_id": current.id, "due_on": _date(due_on), "place": place}
        )
    )
    _print(session, made, form)
    if form.is_table:
        console.print(f"The claim slip: {session.url}/visits/{made.id}/slip")


@command.command("show")
@click.argument("visit", type=int)
@shows_one(Visit)
@pass_session
def show_visit(session: Session, visit: int, form: Form) -> None:
    """Show a visit: the problem, who acts next, and what was done so far."""
    current = session.shop.visits.get(visit)
    _print(session, current, form)
    if form.is_table:
        zone = session.the_shop.clock
        for part in session.shop.visits.parts(visit):
            console.print(f"Part {part.id}: {part.item}, {part.state}", highlight=False)
        for note in session.shop.visits.sealed_notes(visit):
            gone = "destroyed" if note.destroyed_at else f"read {count(len(note.readings), 'time')}"
            console.print(f"Sealed note {note.id}: {note.title}, {gone}", highlight=False)
        for entry in session.shop.records.list(visit=visit):
            console.print(f"{local(entry.at, zone)}  {entry.who}: {entry.text}", highlight=False)


@command.command("set-turn")
@click.argument("visit", type=int)
@click.option(
    "--turn", type=click.Choice([str(turn) for turn in Turn]), required=True, help="Who acts next."
)
@click.option("--assignee", help="Login of the one of us who acts next.")
@click.option("--for", "todo", default="", help="What is to be done.")
@click.option("--follow-up", "follow_up_on", type=DAY, help="As in 2026-12-04.")
@click.option("--place", type=click.Choice(["shelf", "bench", "client"]), help="Where it goes.")
@click.option("--shelf", help="Which shelf.")
@shows_one(Visit)
@pass_session
def set_turn(
    session: Session,
    visit: int,
    turn: str,
    assignee: str | None,
    todo: str,
    follow_up_on: datetime | None,
    place: str | None,
    shelf: str | None,
    form: Form,
) -> None:
    """Say who acts next, what is to be done, and by when."""
    current = session.shop.visits.get(visit)
    asked = NextTurn.model_validate(
        {
            "turn": turn, "assignee_id": _person(session, assignee), "todo": todo,
            "follow_up_on": _date(follow_up_on), "place": place, "shelf": shelf,
        }
    )  # fmt: skip
    _print(session, session.shop.visits.set_turn(current, asked), form)


@command.command("ready")
@click.argument("visit", type=int)
@click.option("--mail", help="Tell its client by mail to this address, and remind them.")
@click.option("--comment", default="", help="What the mail says besides, such as what it costs.")
@shows_one(Visit)
@pass_session
def ready(session: Session, visit: int, mail: str | None, comment: str, form: Form) -> None:
    """Mark a machine as ready to collect."""
    current = session.shop.visits.get(visit)
    _print(
        session, session.shop.visits.ready(current, ReadyToFetch(mail=mail, comment=comment)), form
    )


@command.command("order")
@click.argument("visit", type=int)
@click.argument("item")
@click.option("--from", "supplier", default="", help="The supplier.")
@click.option("--expected", type=DAY, help="As in 2026-12-04.")
@shows_list(OrderedPart)
@pass_session
def order(
    session: Session, visit: int, item: str, supplier: str, expected: datetime | None, form: Form
) -> None:
    """Write down that a part is ordered for VISIT."""
    new = NewPart(item=item, supplier=supplier, expected=_date(expected))
    _print_parts([session.shop.visits.order_part(visit, new)], form)


@command.command("change-part")
@click.argument("part", type=int)
@click.argument("state", type=click.Choice([state.value for state in PartState]))
@shows_list(OrderedPart)
@pass_session
def set_part(session: Session, part: int, state: str, form: Form) -> None:
    """Write down what became of PART, by its number."""
    _print_parts([session.shop.visits.set_part(part, PartState(state))], form)


@command.command("list-parts")
@click.option("--visit", type=int, help="All of this visit; else what the shop waits for.")
@shows_list(OrderedPart)
@pass_session
def parts(session: Session, visit: int | None, form: Form) -> None:
    """List parts on order, the longest expected first."""
    _print_parts(session.shop.visits.parts(visit), form)


def _print_parts(listed: Sequence[OrderedPart], form: Form) -> None:
    columns = (
        Column("part", lambda p: str(p.id), right=True),
        Column("item", lambda p: p.item),
        Column("from", lambda p: p.supplier),
        Column("expected", lambda p: f"{p.expected or '–'}{' overdue' if p.overdue else ''}"),
        Column("state", lambda p: str(p.state)),
        Column("visit", lambda p: str(p.visit_id), right=True),
        Column("machine", lambda p: p.machine_tag),
    )
    print_list(form, listed, columns, empty="No part is on order.")


@command.command("seal-note")
@click.argument("visit", type=int)
@click.option("--title", required=True, help="What it is, as in 'Bram's sign-in'.")
@pass_session
def seal_note(session: Session, visit: int, title: str) -> None:
    """Keep what a client left to sign in with: it is asked for, and not shown."""
    text = click.prompt("What the client left", hide_input=True)
    note = session.shop.visits.seal_note(visit, title, text)
    click.echo(f"Sealed as note {note.id}. It is destroyed at hand-over.")


@command.command("open-note")
@click.argument("note", type=int)
@pass_session
def open_note(session: Session, note: int) -> None:
    """Read a sealed note, by its number. Your reading is written down."""
    text = session.shop.visits.open_note(note).text
    console.print(text, markup=False, highlight=False, soft_wrap=True)


@command.command("hand-over")
@click.argument("visit", type=int)
@click.option("--mended/--not-mended", required=True)
@click.option("--comment", default="", help="What the client is told.")
@click.option("--guaranteed-until", type=DAY)
@shows_one(Visit)
@pass_session
def hand_over(
    session: Session,
    visit: int,
    mended: bool,
    comment: str,
    guaranteed_until: datetime | None,
    form: Form,
) -> None:
    """The machine goes back to its client; the visit ends."""
    asked = HandOver(
        outcome="mended" if mended else "not mended",
        comment=comment,
        guaranteed_until=_date(guaranteed_until),
    )
    current = session.shop.visits.get(visit)
    _print(session, session.shop.visits.hand_over(current, asked), form)


def _date(day: datetime | None) -> date | None:
    return None if day is None else day.date()


def _person(session: Session, login: str | None) -> int | None:
    if login is None:
        return None
    for person in session.shop.people.list():
        if person.login == login:
            return person.id
    raise click.UsageError(f"Nobody of the shop has the login {login!r}.")


def _print(session: Session, visit: Visit, form: Form) -> None:
    zone = session.the_shop.clock
    pairs = [
        ("visit", str(visit.id)),
        ("machine", f"{visit.machine_tag}, {visit.client_name}"),
        ("how", f"{visit.kind}, since {local(visit.opened_at, zone)} by {visit.opened_by}"),
        ("the client says", visit.reported_problem),
        ("condition", visit.condition),
        ("accessories", visit.accessories),
        (
            "call before spending more than",
            "" if visit.approval_limit is None else str(visit.approval_limit),
        ),
        ("loan device", visit.loaner),
        (
            "earlier visit",
            "" if visit.earlier_visit_id is None else f"visit {visit.earlier_visit_id}",
        ),
    ]
    if visit.closed_at is None:
        pairs += [
            ("waiting for", f"{_turn(visit)}{f': {visit.todo}' if visit.todo else ''}"),
            ("due", _until(visit)),
            ("location", f"{visit.place} {visit.shelf}".strip()),
        ]
        if visit.ready_at:
            by_mail = f", mailed to {visit.ready_mail}" if visit.ready_mail else ""
            pairs.append(("ready to collect", f"since {local(visit.ready_at, zone)}{by_mail}"))
    else:
        pairs.append(("ended", f"{local(visit.closed_at, zone)}, {visit.outcome}"))
    pairs.append(("guaranteed until", str(visit.guaranteed_until or "")))
    print_one(form, visit, [(name, value) for name, value in pairs if value])
