"""`phylax rule`: retention rules."""

from __future__ import annotations

from datetime import timedelta

import click

from phylax.cli._output import Column, console, format_option, print_list
from phylax.cli._session import Session, pass_session
from phylax.client import NotFoundError
from phylax.core.quantities import parse_span, show_span
from phylax.core.retention import Rule, RuleInForce, Scope


@click.group("rule")
def command() -> None:
    """Retention rules: what stays of each category."""


@command.command("list")
@format_option
@pass_session
def list_rules(session: Session, form: str) -> None:
    """The shop's rule for each category."""
    columns = (
        Column("category", lambda r: r.category),
        Column("what", lambda r: r.name),
        Column("rule", lambda r: r.in_words),
        Column("comes from", lambda r: r.in_force.source),
        Column("differ", lambda r: str(r.overrides), right=True),
    )
    print_list(form, session.shop.rules.list(), columns, empty="No categories.")


@command.command("show")
@click.argument("machine")
@pass_session
def show(session: Session, machine: str) -> None:
    """The rules in force on a machine, and where each comes from."""
    for key, rule in session.shop.machines.rules(machine).items():
        console.print(f"{key:<14} {rule.in_words()} ({_source(rule)})")


def _source(rule: RuleInForce) -> str:
    return f"from the {rule.source}"


def _span(ctx: click.Context, param: click.Parameter, text: str | None) -> timedelta | None:
    if text is None:
        return None
    try:
        return parse_span(text)
    except ValueError as error:
        raise click.BadParameter(str(error)) from error


@command.command("set")
@click.argument("category")
@click.option("--keep-for", callback=_span, help="As in '14 days'.")
@click.option("--off/--on", default=None, help="Nothing of it goes, or the rule counts again.")
@click.option("--machine", help="Only for this machine.")
@click.option("--client", help="Only for this client's machines.")
@pass_session
def set_rule(
    session: Session,
    category: str,
    keep_for: timedelta | None,
    off: bool | None,
    machine: str | None,
    client: str | None,
) -> None:
    """Say what stays of CATEGORY: for the shop, or for one client or machine."""
    if machine and client:
        raise click.UsageError("Give --machine or --client, not both.")
    if keep_for is None and off is None:
        raise click.UsageError("Say something: --keep-for, --off or --on.")
    scope, subject = Scope.SHOP, 0
    if machine:
        scope, subject = Scope.MACHINE, session.shop.machines.get(machine).id
    elif client:
        scope, subject = Scope.CLIENT, session.shop.clients.find(client).id
    try:
        before = session.shop.rules.get(scope, subject, category)
    except NotFoundError:
        before = None
    said = before.rule if before else Rule()
    rule = Rule(
        keep_for=said.keep_for if keep_for is None else keep_for,
        off=said.off if off is None else off,
    )
    after = session.shop.rules.put(
        scope, subject, category, rule, version=before.version if before else None
    )
    words = (
        "off"
        if after.rule.off
        else (
            f"keep for {show_span(after.rule.keep_for)}"
            if after.rule.keep_for is not None
            else "on"
        )
    )
    console.print(f"{category} for the {scope}: {words}.")
