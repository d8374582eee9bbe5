"""`phylax survey`: what a survey found."""

from __future__ import annotations

import sys

import click

from phylax.cli.session.following import exit_code, follow, print_end, wait_option
from phylax.cli.session.session import Session, pass_session
from phylax.cli.session.volumes import volume_options
from phylax.cli.terminal.forms import TABLE, Form, shows_list, shows_one
from phylax.cli.terminal.output import LOOK_HERE, Column, console, local, print_data, print_list
from phylax.core.catalogue import catalogue, no_category
from phylax.core.ground.quantities import count, show_size
from phylax.core.ground.tally import Tally
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.retention import Caution
from phylax.core.survey import Ledger, LedgerLine, PlaceSum
from phylax.core.survey.lines import FolderSum, ListedItem

_NAMED = 12


@click.group("survey")
def command() -> None:
    """What a survey found; nothing is touched."""


@command.command("start")
@click.argument("machine")
@volume_options
@wait_option()
@pass_session
def start(session: Session, machine: str, volumes: VolumeChoice, wait: bool) -> None:
    """Look through a machine as soon as it calls, and show what was found."""
    run = session.shop.runs.survey(machine, volumes=volumes)
    if not wait:
        console.print(f"Run {run.id} waits for {run.machine_tag}.")
        return
    ended = follow(session, run)
    if exit_code(ended):
        print_end(ended)
        sys.exit(exit_code(ended))
    _print_ledger(session, machine, TABLE)


@command.command("show")
@click.argument("machine")
@shows_one(Ledger, rows=LedgerLine)
@pass_session
def show(session: Session, machine: str, form: Form) -> None:
    """what would be removed and what is kept, as the newest survey found it."""
    _print_ledger(session, machine, form)


def _print_ledger(session: Session, machine: str, form: Form) -> None:
    ledger = session.shop.machines.ledger(machine)
    columns = (
        Column("category", lambda line: line.category),
        Column("total", lambda line: show_size(line.total.size), right=True),
        Column("removable", lambda line: _size(line.removable), right=True),
        Column("needs approval", lambda line: _size(line.needs_approval), right=True),
        Column("kept", lambda line: _stays(line), right=False),
        Column("rule", _rule),
    )
    at = local(ledger.taken_at, session.the_shop.clock)
    if print_data(form, ledger, ledger.lines):
        return
    print_list(form, ledger.lines, columns, empty="Nothing found.")
    console.print(
        f"\n{show_size(ledger.removable.size)} can go ({count(ledger.removable.count, 'item')}); "
        f"{show_size(ledger.needs_approval.size)} needs approval. Survey {ledger.survey_id}, {at}."
    )
    if len(ledger.volumes) > 1:
        shares = (
            f"{v.mount} {show_size(v.removable)} can go, "
            f"{show_size(v.needs_approval)} needs approval"
            for v in ledger.volumes
        )
        console.print("; ".join(shares) + ".")
    for share in ledger.volumes:
        if share.surveyed_at is not None:
            then = local(share.surveyed_at, session.the_shop.clock)
            console.print(f"{share.mount} was left out; shown as of {then}.", style=LOOK_HERE)
    for line in ledger.lines:
        for place in line.places:
            if place.total.count:
                _print_place(line.name, place)
    unread = [(line.name, entry) for line in ledger.lines for entry in line.unread]
    for key, entry in unread[:_NAMED]:
        console.print(f"Not looked at for {key}: {entry.path} ({entry.why})")
    if len(unread) > _NAMED:
        console.print(f"… and {count(len(unread) - _NAMED, 'place')} more; see --format json.")


def _print_place(category: str, place: PlaceSum) -> None:
    """Whose it is, of which program and profile, and whether that is open for them."""
    whose = f"{place.user}, " if place.user else ""
    is_open = f", open: {', '.join(place.programs_open)}" if place.programs_open else ""
    console.print(
        f"  {category}: {whose}{place.label}: {show_size(place.total.size)}, "
        f"{show_size(place.removable.size)} goes{is_open}"
    )


def _size(tally: Tally) -> str:
    return show_size(tally.size) if tally.count else "–"


def _rule(line: LedgerLine) -> str:
    pressed = ", short of space" if line.pressed else ""
    return f"{line.rule_in_words} ({line.rule.source}{pressed})"


def _stays(line: LedgerLine) -> str:
    words = [f"{show_size(stay.size)} {stay.reason}" for stay in line.kept]
    if line.kept_sites:
        words.append(f"{count(line.kept_sites, 'site')} kept")
    return ", ".join(words) or "–"


@command.command("list")
@click.argument("machine")
@click.argument("category")
@click.option("--largest", is_flag=True, help="Largest first.")
@click.option("--place", help="Only what lies in this place, as the listing names it.")
@click.option("--folder", default="", help="Only below this folder of the place.")
@shows_list(ListedItem)
@pass_session
def listing(
    session: Session,
    machine: str,
    category: str,
    largest: bool,
    place: str | None,
    folder: str,
    form: Form,
) -> None:
    """Every item of a category that needs approval or is only listed, with its number."""
    _check_kept(category, machine)
    ledger = session.shop.machines.ledger(machine)
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda i: str(i.number), right=True),
        Column("size", lambda i: show_size(i.size), right=True),
        Column("dated", lambda i: local(i.aged_from, zone) if i.aged_from else "not known"),
        Column("proposed", lambda i: "yes" if i.reason is None else f"no, {i.reason}"),
        Column("file", lambda i: i.path),
        Column("in", lambda i: i.place),
    )
    items = session.shop.surveys.listing(
        ledger.survey_id, category, largest_first=largest, place=place, folder=folder
    )
    print_list(form, items, columns, empty="The listing is empty.")


def _check_kept(category: str, machine: str) -> None:
    """A usage error where no listing of a category is kept."""
    kind = catalogue().get(category)
    if kind is None:
        raise click.BadParameter(f"{no_category(category)}", param_hint="CATEGORY")
    if kind.caution is Caution.SAFE:
        raise click.UsageError(
            f"Of {category} no file is listed, because it goes without a yes: 'phylax survey show "
            f"{machine}' has its sums."
        )


@command.command("list-folders")
@click.argument("machine")
@click.argument("category")
@click.option("--place", help="Only what lies in this place, as the listing names it.")
@click.option("--folder", default="", help="Only below this folder of the place.")
@shows_list(FolderSum)
@pass_session
def list_folders(
    session: Session, machine: str, category: str, place: str | None, folder: str, form: Form
) -> None:
    """What each folder of a listing holds, instead of its files."""
    _check_kept(category, machine)
    ledger = session.shop.machines.ledger(machine)
    columns = (
        Column("total", lambda f: show_size(f.total.size), right=True),
        Column("items", lambda f: f"{f.total.count:,}", right=True),
        Column("rule lets go", lambda f: show_size(f.proposed.size), right=True),
        Column("folder", lambda f: f.folder or "(directly)"),
        Column("in", lambda f: f.place),
    )
    folders = session.shop.surveys.folders(ledger.survey_id, category, place=place, folder=folder)
    print_list(form, folders, columns, empty="The listing is empty.")
