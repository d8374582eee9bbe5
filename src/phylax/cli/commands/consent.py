"""`phylax consent`: who agreed to what."""

from __future__ import annotations

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.ground.quantities import count, show_size
from phylax.core.retention.consents import Consent, StandingConsent, WaitingListing


@click.group("consent")
def command() -> None:
    """Who agreed to what, for categories that need a person's approval."""


@command.command("list")
@click.argument("machine")
@shows_list(Consent)
@pass_session
def list_consents(session: Session, machine: str, form: Form) -> None:
    """List every yes to a listing of MACHINE, newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("consent", lambda c: str(c.id), right=True),
        Column("category", lambda c: c.category),
        Column("to", lambda c: f"{count(c.items, 'item')}, {show_size(c.size)}"),
        Column("by", lambda c: f"{c.given_by}, {c.via}"),
        Column("comment", lambda c: c.comment),
        Column("given", lambda c: local(c.given_at, zone)),
        Column("counts until", lambda c: local(c.expires_at, zone)),
        Column("used by run", lambda c: str(c.used_by_run or "–"), right=True),
    )
    print_list(form, session.shop.machines.consents(machine), columns, empty="No consent yet.")


@command.command("list-standing")
@click.argument("machine")
@shows_list(StandingConsent)
@pass_session
def standing(session: Session, machine: str, form: Form) -> None:
    """Standing consents for MACHINE: what its rules propose goes each time."""
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda c: str(c.id), right=True),
        Column("category", lambda c: c.category),
        Column("by", lambda c: f"{c.given_by}, {c.via}"),
        Column("comment", lambda c: c.comment),
        Column("given", lambda c: local(c.given_at, zone)),
        Column(
            "taken back",
            lambda c: (
                f"{local(c.taken_back_at, zone)}, {c.taken_back_by}" if c.taken_back_at else "–"
            ),
        ),
    )
    consents = session.shop.standing_consents.list(machine)
    print_list(form, consents, columns, empty="No standing consent.")


@command.command("give-standing")
@click.argument("machine")
@click.argument("category")
@click.option("--comment", default="", help="The client's word, as in 'agreed in the contract'.")
@pass_session
def give_standing(session: Session, machine: str, category: str, comment: str) -> None:
    """Give a standing consent: what the rule proposes for CATEGORY goes without another
    approval."""
    made = session.shop.standing_consents.give(
        machine, category, via="command line", comment=comment
    )
    rule = session.shop.machines.rules(machine)[category]
    console.print(
        f"{made.id}: {category} on {machine} goes by its rule from now on: {rule.in_words()}."
    )


@command.command("take-back")
@click.argument("number", type=int)
@pass_session
def take_back(session: Session, number: int) -> None:
    """Take back a standing consent: each listing needs its own yes again."""
    session.shop.standing_consents.take_back(number)
    console.print(f"Standing consent {number} is taken back.")


@command.command("list-waiting")
@shows_list(WaitingListing)
@pass_session
def waiting(session: Session, form: Form) -> None:
    """List the listings that need approval, in the whole shop, largest first."""
    zone = session.the_shop.clock
    columns = (
        Column("survey", lambda w: str(w.survey_id), right=True),
        Column("machine", lambda w: w.machine_tag),
        Column("client", lambda w: w.client_name),
        Column("category", lambda w: w.category),
        Column("proposes", lambda w: f"{count(w.items, 'item')}, {show_size(w.size)}"),
        Column("looked", lambda w: local(w.surveyed_at, zone)),
    )
    listings = session.shop.waiting_listings.list()
    print_list(form, listings, columns, empty="Nothing needs approval.")


@command.command("agree")
@click.argument("listings", nargs=-1, required=True, metavar="SURVEY:CATEGORY...")
@click.option("--comment", default="", help="The client's word, as in 'asked by phone'.")
@click.option("--yes", is_flag=True, help="Do not ask before cleaning.")
@pass_session
def agree(session: Session, listings: tuple[str, ...], comment: str, yes: bool) -> None:
    """Say yes to everything these listings propose, as in '17:downloads', and clean only that."""
    known = {f"{w.survey_id}:{w.category}": w for w in session.shop.waiting_listings.list()}
    if missing := [key for key in listings if key not in known]:
        raise click.BadParameter(
            f"{missing[0]!r} does not need approval; see 'phylax consent list-waiting'",
            param_hint="SURVEY:CATEGORY",
        )
    for listing in (known[key] for key in listings):
        size = show_size(listing.size)
        console.print(
            f"{listing.machine_tag}: {listing.name}, {count(listing.items, 'item')}, {size}"
        )
    ask("Agree, and clean these now?", yes=yes)
    picked = [(known[key].survey_id, known[key].category) for key in listings]
    for run in session.shop.waiting_listings.agree(picked, via="command line", comment=comment):
        console.print(f"Run {run.id} waits for {run.machine_tag}")
