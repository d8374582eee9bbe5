"""`phylax program`: startup programs on machines, and the shop's notebook of it."""

from __future__ import annotations

import click

from phylax.cli.commands.changes import follow_change, list_changes, list_trials, look, put_back
from phylax.cli.commands.everywhere import command as everywhere
from phylax.cli.session.following import wait_option
from phylax.cli.session.scopes import in_words, subject, subject_options
from phylax.cli.session.session import Session, pass_session
from phylax.cli.session.what_if import in_words as what_if_in_words
from phylax.cli.session.what_if import say_what_if
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.ground.quantities import count
from phylax.core.runs.runs import WantedProgram
from phylax.core.tuning.known import KnownEdit, KnownProgram, ProgramDecision, Recognition
from phylax.core.tuning.looks import JudgedProgram, UnknownProgram
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.rules import ProgramRule
from phylax.core.tuning.setting import DependsOn, questions

_intent = click.option(
    "--runs",
    type=click.Choice([str(intent) for intent in Intent]),
    help="When it is to run.",
)


@click.group("program")
def command() -> None:
    """Startup programs, and what the shop knows of it."""


command.add_command(list_changes)
command.add_command(list_trials)
command.add_command(put_back)
command.add_command(look)
command.add_command(everywhere)


@command.command("list")
@click.argument("machine")
@shows_list(JudgedProgram)
@pass_session
def list_programs(session: Session, machine: str, form: Form) -> None:
    """Startup programs on MACHINE, and what becomes of it by the shop's rules."""
    look = session.shop.programs.on(machine)
    if look.unread:
        console.print(f"The newest survey could not read it: {look.unread}.")
    columns = (
        Column("program", lambda p: p.program.name),
        Column("runs now", lambda p: p.now),
        Column("becomes", _becomes),
        Column("why", _why, below=True),
        Column("started by", _started_by, below=True),
    )
    if form.is_table:
        console.print(f"{machine}, looked at {local(look.taken_at, session.the_shop.clock)}")
    print_list(form, look.programs, columns, empty="No startup programs.")


def _becomes(judged: JudgedProgram) -> str:
    verdict = judged.verdict
    if not verdict.changes:
        return "stays"
    return f"{verdict.value}, needs approval" if verdict.needs_approval else str(verdict.value)


def _why(judged: JudgedProgram) -> str:
    verdict = judged.verdict
    if verdict.changes:
        by = f"by the {verdict.source}'s rule" if verdict.source else "by the notebook"
        return f"{by}: {judged.program.description}".rstrip(": ")
    detail = verdict.detail
    if detail in questions():
        detail = questions()[detail].text
    return f"{verdict.reason}{f': {detail}' if detail else ''}"


def _started_by(judged: JudgedProgram) -> str:
    parts = []
    for starter in judged.program.starters:
        words = f"{starter.kind}{f' of {starter.person}' if starter.person else ''}"
        if starter.when:
            words += f" ({starter.when})"
        parts.append(words if starter.on else f"{words}, off")
    return "; ".join(parts)


@command.command("list-unknown")
@shows_list(UnknownProgram)
@pass_session
def list_unknown(session: Session, form: Form) -> None:
    """Programs that not in our notes yet, on most machines first."""
    columns = (
        Column("program", lambda p: p.name),
        Column("machines", lambda p: str(p.machines), right=True),
        Column("clients", lambda p: str(p.clients), right=True),
        Column("known by", lambda p: f"package {p.package}" if p.package else p.path),
        Column("what it says of itself", lambda p: p.description, below=True),
        Column("on", lambda p: ", ".join(p.machine_tags), below=True),
    )
    empty = "Every program that could change is written about."
    print_list(form, session.shop.programs.unknown(), columns, empty=empty)


@command.command("list-known")
@shows_list(KnownProgram)
@pass_session
def list_notebook(session: Session, form: Form) -> None:
    """What the shop has written about programs."""
    columns = (
        Column("number", lambda k: str(k.id), right=True),
        Column("program", lambda k: k.edit.name),
        Column("what becomes of it", _handling),
        Column("machines", lambda k: str(k.machines), right=True),
        Column("written by", lambda k: k.written_by),
        Column("what it is", lambda k: k.edit.description, below=True),
    )
    print_list(form, session.shop.programs.notebook(), columns, empty="Nothing is written yet.")


def _handling(known: KnownProgram) -> str:
    edit = known.edit
    if edit.handling is ProgramDecision.STAYS:
        return "stays"
    if edit.depends_on is None:
        return str(edit.intent)
    return f"{edit.intent}, if {edit.depends_on.question} is {edit.depends_on.on}"


@command.command("write")
@click.argument("name")
@click.option("--package", default="", help="Its package, by which it is recognised.")
@click.option("--signed-by", default="", help="Who signed its file; together with --path.")
@click.option("--path", default="", help="Where its file lies; * and ? as in a shell.")
@click.option("--digest", default="", help="The SHA-256 of its file.")
@click.option("--what", default="", help="What it is, in a sentence a client understands.")
@click.option("--stays", is_flag=True, help="Nothing of it changes.")
@_intent
@click.option("--asks", help="The question that decides: phylax question list.")
@click.option(
    "--on", "answer", type=click.Choice(["yes", "no"]), help="With which answer it runs so."
)
@click.option("--dry-run", is_flag=True, help="Only say what would change where.")
@pass_session
def write(
    session: Session,
    name: str,
    package: str,
    signed_by: str,
    path: str,
    digest: str,
    what: str,
    stays: bool,
    runs: str | None,
    asks: str | None,
    answer: str | None,
    dry_run: bool,
) -> None:
    """Write about a program in the shop's notebook."""
    if stays == bool(runs):
        raise click.UsageError("Give --stays, or --runs with when it is to run.")
    if bool(asks) != bool(answer):
        raise click.UsageError("Give --asks and --on together.")
    handling = (
        ProgramDecision.STAYS if stays else ProgramDecision.HANGS if asks else ProgramDecision.GOES
    )
    try:
        edit = KnownEdit(
            recognition=Recognition(package=package, signed_by=signed_by, path=path, digest=digest),
            name=name,
            description=what,
            handling=handling,
            intent=Intent(runs) if runs else None,
            depends_on=DependsOn.model_validate({"question": asks, "on": answer}) if asks else None,
        )
    except ValueError as problem:
        raise click.UsageError(_said(problem)) from None
    _say_what_if(session, edit)
    if dry_run:
        console.print("Nothing was written.")
        return
    made = session.shop.programs.write(edit)
    console.print(f"Entry {made.id} is written: {name}.")


def _said(problem: ValueError) -> str:
    errors = getattr(problem, "errors", None)
    return (
        str(errors()[0]["msg"]).removeprefix("Value error, ") if callable(errors) else str(problem)
    )


def _say_what_if(session: Session, edit: KnownEdit) -> None:
    lines = session.shop.programs.what_if(edit)
    if not lines:
        console.print("It was seen on no machine yet.")
    for line in lines:
        console.print(f"{line.name}: {what_if_in_words(line)}.")


@command.command("strike-out")
@click.argument("number", type=int)
@pass_session
def strike_out(session: Session, number: int) -> None:
    """Take entry NUMBER out of the notebook: the program is unknown again."""
    session.shop.programs.strike_out(number)
    console.print(f"Entry {number} is struck out; nothing of that program changes any more.")


@command.command("set")
@click.argument("program")
@click.option("--leave", is_flag=True, help="Asked for: it stays as it is.")
@click.option("--put-right", is_flag=True, help="Rounds set it again when something altered it.")
@click.option("--nothing", is_flag=True, help="Take the rule back.")
@click.option("--dry-run", is_flag=True, help="Only say what would change on which machines.")
@_intent
@subject_options
@pass_session
def set_rule(
    session: Session,
    program: str,
    leave: bool,
    put_right: bool,
    nothing: bool,
    dry_run: bool,
    runs: str | None,
    machine: str | None,
    client: str | None,
) -> None:
    """What the shop, a client or a machine wants of PROGRAM (its key, as in 'package:chat')."""
    if sum((leave, bool(runs), nothing)) != 1:
        raise click.UsageError("Give --leave, --nothing, or --runs with when it is to run.")
    scope, number = subject(session, machine, client)
    rule = ProgramRule(
        leave=leave or None, intent=Intent(runs) if runs else None, put_right=put_right or None
    )
    say_what_if(session.shop.programs.what_if_rule(scope, number, program, rule))
    if dry_run:
        return
    session.shop.programs.put_rule(scope, number, program, rule)
    wanted = "stays as it is" if leave else f"is to run {runs}"
    wanted = "has no rule any more" if nothing else wanted
    console.print(f"{program} {wanted}, for {in_words(scope, machine, client)}.")


@command.command("change")
@click.argument("machine")
@click.argument("programs", nargs=-1)
@click.option("--comment", default="", help="Why, or who agreed, as in 'asked by phone'.")
@click.option("--yes", is_flag=True, help="Do not ask before changing.")
@click.option("--dry-run", is_flag=True, help="Only say what would be changed.")
@wait_option()
@pass_session
def change(
    session: Session,
    machine: str,
    programs: tuple[str, ...],
    comment: str,
    yes: bool,
    dry_run: bool,
    wait: bool,
) -> None:
    """Let PROGRAMS of MACHINE (by name or key) run as the shop's rules want; all that would change
    if none is named."""
    judged = session.shop.programs.on(machine).programs
    names = {name for j in judged for name in (j.program.name, j.program.key)}
    if unknown := [program for program in programs if program not in names]:
        raise click.UsageError(f"{unknown[0]!r} was not seen on {machine}: phylax program list.")
    meant = [
        j
        for j in judged
        if (j.program.name in programs or j.program.key in programs)
        or (not programs and j.verdict.changes)
    ]
    if stays := [j for j in meant if not j.verdict.changes]:
        raise click.UsageError(f"{stays[0].program.name} stays. {_why(stays[0])}.")
    if not meant:
        console.print(f"Everything on {machine} runs as the shop wants it.")
        return
    for changing in meant:
        wish = changing.verdict.value
        console.print(f"{changing.program.name}: {changing.now} now, {wish} from then on.")
    console.print("Each of them can be put back exactly.")
    if dry_run:
        return
    ask(f"Change {count(len(meant), 'program')} on {machine}?", yes=yes)
    wanted = [
        WantedProgram(program=j.program.key, intent=Intent(str(j.verdict.value))) for j in meant
    ]
    follow_change(session, session.shop.runs.change(machine, wanted, comment=comment), wait=wait)
