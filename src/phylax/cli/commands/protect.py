"""`phylax protect`: what is protected."""

from __future__ import annotations

import sys

import click

from phylax.cli.session.scopes import in_words, subject, subject_options
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, console, local, print_data, print_list
from phylax.core.ground.quantities import count, show_size
from phylax.core.retention import ProtectEntry, ProtectKind
from phylax.core.retention.protection import ListedProtection, ProtectionOnMachine, ProtectTest


@click.group("protect")
def command() -> None:
    """Protected folders, patterns and web sites; each scope only adds."""


@command.command("list")
@click.argument("machine", required=False)
@shows_list(ListedProtection)
@pass_session
def list_entries(session: Session, machine: str | None, form: Form) -> None:
    """Everything that is protected, or what is in force on MACHINE."""
    columns = (
        Column("number", lambda p: str(p.id), right=True),
        Column("kind", lambda p: p.entry.kind),
        Column("pattern", lambda p: p.entry.pattern),
        Column("for", lambda p: p.subject or f"the {p.scope}"),
        Column("added by", lambda p: p.added_by),
        Column("covers", lambda p: _covers(p, machine), below=True),
        Column("note", lambda p: p.note, below=True),
    )
    protections = session.shop.protections.list(machine)
    print_list(form, protections, columns, empty="Nothing is protected by a list.")


def _covers(entry: ListedProtection, machine: str | None) -> str:
    """What an entry covers, in words, on one machine or on all that it is for."""
    if machine is not None:
        if entry.not_known:
            return "not looked at since"
        if entry.kept:
            return f"keeps {count(entry.kept, 'item')}, {show_size(entry.kept_size)}"
        return "the folder is there" if entry.covers else "covers NOTHING here"
    parts = []
    if entry.covers:
        parts.append(f"covers something on {count(entry.covers, 'machine')}")
    if entry.covers_nothing and entry.covers:
        parts.append(f"nothing on {entry.covers_nothing}")
    elif entry.covers_nothing:
        parts.append(f"covers NOTHING, on {count(entry.covers_nothing, 'machine')}")
    if entry.not_known:
        parts.append(f"{count(entry.not_known, 'machine')} not looked at since")
    return ", ".join(parts) or "is for no machine"


@command.command("list-machines")
@click.argument("number", type=int)
@shows_list(ProtectionOnMachine)
@pass_session
def machines(session: Session, number: int, form: Form) -> None:
    """On which machines entry NUMBER covers something, and on which nothing."""

    def here(on: ProtectionOnMachine) -> str:
        if on.surveyed_at is None:
            return "not looked at since it was added"
        if on.kept:
            return f"{count(on.kept, 'item')}, {show_size(on.kept_size)}"
        return "the folder is there, nothing in it is looked at" if on.exists else "nothing"

    zone = session.the_shop.clock
    columns = (
        Column("machine", lambda on: on.tag),
        Column("client", lambda on: on.client),
        Column("covers", here),
        Column("looked at", lambda on: local(on.surveyed_at, zone)),
    )
    covered = session.shop.protections.on_machines(number)
    print_list(form, covered, columns, empty="This entry is for no machine.")


@command.command("add")
@click.option("--folder", help="A folder's whole path, with all that is in it.")
@click.option("--pattern", help="A pattern as in a .gitignore file, as in '*.dcm' or 'Scans/'.")
@click.option("--site", help="A web site that stays signed in, as in 'tickets.example'.")
@click.option("--note", default="", help="Why, for those who come after you.")
@subject_options
@pass_session
def add(
    session: Session,
    folder: str | None,
    pattern: str | None,
    site: str | None,
    note: str,
    machine: str | None,
    client: str | None,
) -> None:
    """Protect a folder, a pattern or a web site for the shop, a client or a machine."""
    given = {k: v for k, v in (("folder", folder), ("pattern", pattern), ("site", site)) if v}
    if len(given) != 1:
        raise click.UsageError("Give one of --folder, --pattern and --site.")
    ((kind, what),) = given.items()
    scope, number = subject(session, machine, client)
    made = session.shop.protections.add(
        ProtectEntry(kind=ProtectKind(kind), pattern=what),
        scope=scope,
        subject_id=number,
        note=note,
    )
    console.print(f"{made.id}: {kind} {what} stays, for {in_words(scope, machine, client)}.")


@command.command("remove")
@click.argument("number", type=int)
@pass_session
def remove(session: Session, number: int) -> None:
    """Remove an entry from the protect list."""
    session.shop.protections.remove(number)
    console.print(f"Entry {number} is off the list; what it kept may go by its rule.")


@command.command("test")
@click.argument("machine")
@click.argument("path", required=False)
@click.option("--site", help="A web site instead of a path.")
@shows_one(ProtectTest)
@pass_session
def test(session: Session, machine: str, path: str | None, site: str | None, form: Form) -> None:
    """Which entry protects PATH on MACHINE. Ends with 1 where none does."""
    answer = session.shop.protections.test(machine, path=path, site=site)
    by = answer.protected_by
    if print_data(form, answer, [answer]):
        sys.exit(0 if by else 1)
    if by is None:
        console.print(f"Nothing on the list protects {answer.asked} on {machine}.")
        sys.exit(1)
    whose = by.subject or f"the {by.scope}"
    console.print(
        f"{answer.asked} stays: {by.entry.kind} {by.entry.pattern}, entry {by.id} for {whose}"
        + (f" ({by.note})." if by.note else ".")
    )
