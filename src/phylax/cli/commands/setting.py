"""`phylax setting`: settings of one value on machines, and what the shop wants of them."""

from __future__ import annotations

import click

from phylax.cli.commands.changes import follow_change, list_changes, list_trials, look, put_back
from phylax.cli.commands.everywhere import settings_command
from phylax.cli.session.following import wait_option
from phylax.cli.session.scopes import in_words, subject, subject_options
from phylax.cli.session.session import Session, pass_session
from phylax.cli.session.what_if import say_what_if
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.ground.quantities import count
from phylax.core.ground.values import Scalar
from phylax.core.runs.runs import WantedSetting
from phylax.core.tuning.looks import JudgedValue
from phylax.core.tuning.rules import TuningRule
from phylax.core.tuning.setting import Kind, Reversibility, Setting, questions, settings


@click.group("setting")
def command() -> None:
    """Settings of machines, and what the shop wants of them."""


command.add_command(list_changes)
command.add_command(list_trials)
command.add_command(put_back)
command.add_command(look)
command.add_command(settings_command)


@command.command("list-kinds")
@shows_list(Setting)
def catalogue(form: Form) -> None:
    """Everything that can be read, what it can be, and what a person will notice."""
    columns = (
        Column("setting", lambda s: s.key),
        Column("what", lambda s: s.name),
        Column("can be", _can_be),
        Column("goes back", lambda s: s.goes_back),
        Column("notice", lambda s: s.notice, below=True),
    )
    known = [setting for setting in settings().values() if setting.is_one_value]
    print_list(form, known, columns, empty="There are none.")


def _can_be(setting: Setting) -> str:
    if setting.kind is Kind.SWITCH:
        return "on, off"
    if setting.kind is Kind.CHOICE:
        return ", ".join(setting.choices)
    return f"{setting.least} to {setting.maximum} {setting.unit}".strip()


@command.command("list")
@click.argument("machine")
@shows_list(JudgedValue)
@pass_session
def list_values(session: Session, machine: str, form: Form) -> None:
    """The settings of MACHINE, and what becomes of them by the shop's rules."""
    look = session.shop.programs.on(machine)
    if look.unread:
        console.print(f"The newest survey could not read it: {look.unread}.")
    columns = (
        Column("setting", _name),
        Column("is", lambda v: v.now),
        Column("becomes", _becomes),
        Column("why", _why, below=True),
    )
    if form.is_table:
        console.print(f"{machine}, looked at {local(look.taken_at, session.the_shop.clock)}")
    print_list(form, look.values, columns, empty="No settings were read.")


def _name(value: JudgedValue) -> str:
    return f"{value.seen.key} of {value.seen.person}" if value.seen.person else value.seen.key


def _becomes(value: JudgedValue) -> str:
    if not value.verdict.changes:
        return "stays"
    return f"{value.becomes}, needs approval" if value.verdict.needs_approval else value.becomes


def _why(value: JudgedValue) -> str:
    verdict = value.verdict
    if verdict.changes:
        return f"the {verdict.source}'s rule wants it. {value.setting.notice}"
    detail = verdict.detail
    if detail in questions():
        detail = questions()[detail].text
    return f"{verdict.reason}: {detail}" if detail else str(verdict.reason)


@command.command("set")
@click.argument("setting", type=click.Choice([k for k, s in settings().items() if s.is_one_value]))
@click.argument("value", required=False)
@click.option("--leave", is_flag=True, help="Asked for: it stays as it is.")
@click.option("--put-right", is_flag=True, help="Rounds set it again when something altered it.")
@click.option("--nothing", is_flag=True, help="Take the rule back.")
@click.option("--dry-run", is_flag=True, help="Only say what would change on which machines.")
@subject_options
@pass_session
def set_rule(
    session: Session,
    setting: str,
    value: str | None,
    leave: bool,
    put_right: bool,
    nothing: bool,
    dry_run: bool,
    machine: str | None,
    client: str | None,
) -> None:
    """What the shop, a client or a machine wants of SETTING (a key of 'phylax setting list-kinds'):
    a VALUE, --leave or --nothing."""
    if sum((value is not None, leave, nothing)) != 1:
        raise click.UsageError("Give a VALUE, --leave or --nothing.")
    known = settings()[setting]
    want = None if value is None else _parsed(known, value)
    scope, number = subject(session, machine, client)
    rule = TuningRule(value=want, leave=leave or None, put_right=put_right or None)
    say_what_if(session.shop.settings.what_if_rule(scope, number, setting, rule))
    if dry_run:
        return
    session.shop.settings.put_rule(scope, number, setting, rule)
    said = "stays as it is" if leave else f"is to be {known.shown(want)}"
    said = "has no rule any more" if nothing else said
    console.print(f"{known.name}: {said}, for {in_words(scope, machine, client)}.")


def _parsed(setting: Setting, words: str) -> Scalar:
    value: Scalar = words
    if setting.kind is Kind.SWITCH:
        value = {"on": True, "off": False}.get(words, words)
    elif setting.kind is Kind.NUMBER and words.lstrip("-").isdecimal():
        value = int(words)
    if setting.why_not(value):
        raise click.UsageError(f"{setting.key} can be {_can_be(setting)}, not {words!r}.")
    return value


@command.command("change")
@click.argument("machine")
@click.argument("keys", nargs=-1)
@click.option("--comment", default="", help="Why, or who agreed, as in 'asked by phone'.")
@click.option("--yes", is_flag=True, help="Do not ask before changing.")
@click.option("--dry-run", is_flag=True, help="Only say what would be changed.")
@wait_option()
@pass_session
def change(
    session: Session,
    machine: str,
    keys: tuple[str, ...],
    comment: str,
    yes: bool,
    dry_run: bool,
    wait: bool,
) -> None:
    """Set KEYS of MACHINE as the shop's rules want; all that would change if none is named."""
    values = session.shop.programs.on(machine).values
    if unknown := [key for key in keys if key not in {value.seen.key for value in values}]:
        raise click.UsageError(f"{unknown[0]!r} was not seen on {machine}: phylax setting list.")
    meant = [
        value for value in values
        if value.seen.key in keys or (not keys and value.verdict.changes)
    ]  # fmt: skip
    if stays := [value for value in meant if not value.verdict.changes]:
        raise click.UsageError(f"{_name(stays[0])} stays. {_why(stays[0])}.")
    if not meant:
        console.print(f"Every setting of {machine} is as the shop wants it.")
        return
    for value in meant:
        how = value.setting.goes_back
        back = "" if how is Reversibility.EXACT else f" Goes back: {how}."
        console.print(f"{_name(value)}: {value.now} now, {value.becomes} then.{back}")
        console.print(f"  {value.setting.notice} {value.setting.cost}")
    if dry_run:
        return
    ask(f"Change {count(len(meant), 'setting')} on {machine}?", yes=yes)
    wanted = []
    for value in meant:
        assert value.verdict.value is not None
        wanted.append(
            WantedSetting(
                setting=value.seen.key, person=value.seen.person, value=value.verdict.value
            )
        )
    follow_change(
        session, session.shop.runs.change(machine, values=wanted, comment=comment), wait=wait
    )
