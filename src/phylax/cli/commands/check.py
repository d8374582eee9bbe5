"""`phylax check`: disks and file systems of machines, and what was found."""

from __future__ import annotations

import click

from phylax.cli.commands.changes import follow_change
from phylax.cli.session.following import wait_option
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.checks.findings import Finding, Result
from phylax.core.checks.kept import StoredCheck
from phylax.core.checks.kind import CheckKind, kinds

_SHOWN = 10


@click.group("check")
def command() -> None:
    """Disks and file systems of machines, and what was found."""


@command.command("list-kinds")
@shows_list(CheckKind)
def catalogue(form: Form) -> None:
    """Everything that can be checked, and what a person will notice of it."""
    columns = (
        Column("check", lambda k: k.key),
        Column("what", lambda k: k.name),
        Column("of each", lambda k: k.target),
        Column("how", lambda k: "; ".join(f"{m}: {w}" for m, w in k.modes.items()), below=True),
        Column("notice", lambda k: k.notice, below=True),
    )
    print_list(form, list(kinds().values()), columns, empty="There are none.")


@command.command("run")
@click.argument("machine")
@click.argument("checks", nargs=-1, type=click.Choice(list(kinds())))
@click.option(
    "--how",
    multiple=True,
    metavar="CHECK=MODE",
    help="How to do a check, where not the usual way: malware=full.",
)
@wait_option()
@pass_session
def run(
    session: Session, machine: str, checks: tuple[str, ...], how: tuple[str, ...], wait: bool
) -> None:
    """Check MACHINE: all CHECKS that a routine does if none is named. Nothing is touched. 'phylax
    check list-kinds' names them."""
    usual = tuple(key for key, kind in kinds().items() if kind.in_step)
    modes = dict(_mode(words) for words in how)
    wanted = checks or tuple(modes) or usual
    follow_change(session, session.shop.runs.check(machine, wanted, modes), wait=wait)


def _mode(words: str) -> tuple[str, str]:
    check, _, mode = words.partition("=")
    if check not in kinds() or not mode:
        raise click.UsageError(f"{words!r} is not CHECK=MODE; see 'phylax check list-kinds'.")
    return check, mode


@command.command("list")
@click.argument("machine")
@shows_list(StoredCheck)
@pass_session
def list_checks(session: Session, machine: str, form: Form) -> None:
    """What the newest checks of MACHINE came to."""
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda k: str(k.id), right=True),
        Column("check", lambda k: " ".join((_name(k.checked.check), k.checked.mode)).strip()),
        Column("target", lambda k: k.checked.target),
        Column("result", _result),
        Column("when", lambda k: local(k.checked.ended_at, zone)),
        Column("what", _what, below=True),
    )
    empty = f"{machine} was not checked yet: phylax check run {machine}"
    print_list(form, session.shop.checks.of(machine), columns, empty=empty)


def _name(key: str) -> str:
    return kinds()[key].name if key in kinds() else key


def _result(kept: StoredCheck) -> str:
    if kept.checked.result is Result.FINDINGS and not kept.is_open:
        return f"findings, dealt with by {kept.settled_by}"
    return str(kept.checked.result)


def _finding(finding: Finding) -> str:
    where = f" {finding.where}" if finding.where and finding.where not in finding.what else ""
    return f"{finding.what}:{where}".rstrip(":") + (
        f" ({finding.evidence})" if finding.evidence else ""
    )


def _what(kept: StoredCheck) -> str:
    if kept.checked.why:
        return kept.checked.why
    said = [_finding(finding) for finding in kept.checked.findings[:_SHOWN]]
    rest = len(kept.checked.findings) + kept.checked.unlisted - _SHOWN
    if rest > 0:
        said.append(f"and {rest} more")
    if kept.settled_comment:
        said.append(f"Seen to: {kept.settled_comment}")
    return "; ".join(said)


@command.command("settle")
@click.argument("number", type=int)
@click.argument("comment")
@pass_session
def settle(session: Session, number: int, comment: str) -> None:
    """Say in a WORD or more what was done about the findings of check NUMBER."""
    kept = session.shop.checks.settle(number, comment)
    console.print(f"Check {kept.id} needs nobody any more: {comment}")
