"""`phylax rule`: retention rules."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from phylax.cli.session.scopes import in_words, subject, subject_options
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import TABLE, Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, console, local, print_data, print_list
from phylax.cli.terminal.types import FILE
from phylax.client import NotFoundError
from phylax.core.catalogue import catalogue, no_category
from phylax.core.ground.quantities import count, parse_size, parse_span, show_size
from phylax.core.ground.values import Value
from phylax.core.retention import Rule, RuleInForce, Scope, ScopedRule, in_force
from phylax.core.retention.rules import ShopRule
from phylax.core.survey.what_if import WhatIf, WhatIfMachine

F = TypeVar("F", bound=Callable[..., Any])


class CategoryRule(Value):
    """The rule in force for a category on a machine."""

    category: str
    source: str
    in_words: str
    rule: RuleInForce


@click.group("rule")
def command() -> None:
    """Retention rules: what stays of each category."""


@command.command("list")
@shows_list(ShopRule)
@pass_session
def list_rules(session: Session, form: Form) -> None:
    """The shop's rule for each category."""
    columns = (
        Column("category", lambda r: r.category),
        Column("what", lambda r: r.name),
        Column("caution", lambda r: r.caution),
        Column("rule", lambda r: r.in_words),
        Column("comes from", lambda r: r.in_force.source),
        Column("differ", lambda r: str(r.overrides), right=True),
    )
    print_list(form, session.shop.rules.list(), columns, empty="No categories.")


@command.command("show")
@click.argument("machine")
@shows_list(CategoryRule)
@pass_session
def show(session: Session, machine: str, form: Form) -> None:
    """The rules in force on a machine, and where each part comes from."""
    rules = [
        CategoryRule(category=key, source=str(rule.source), in_words=rule.in_words(), rule=rule)
        for key, rule in session.shop.machines.rules(machine).items()
    ]
    columns = (
        Column("category", lambda r: r.category),
        Column("from", lambda r: f"the {r.source}"),
        Column("rule", lambda r: r.in_words, below=True),
        Column("other parts", lambda r: _other_parts(r.rule), below=True),
    )
    print_list(form, rules, columns, empty="No categories.")


def _other_parts(rule: RuleInForce) -> str:
    """Parts of a rule that come from another scope than the rest."""
    return "; ".join(
        f"{field.replace('_', ' ')} from the {scope}"
        for field, scope in rule.sources.items()
        if scope not in (Scope.CATALOGUE, rule.source)
    )


# --- what a rule says ------------------------------------------------------------------------


class _Parsed(click.ParamType):  # type: ignore[type-arg]  # generic only in newer click
    """A value in plain words."""

    def __init__(self, name: str, parse: Callable[[str], Any]) -> None:
        self.name = name
        self._parse = parse

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        try:
            return self._parse(value)
        except ValueError as error:
            self.fail(str(error), param, ctx)


def _size_or_share(text: str) -> dict[str, int]:
    share = re.fullmatch(r"\s*(\d+)\s*%\s*", text)
    return {"keep_under_percent": int(share[1])} if share else {"keep_under": parse_size(text)}


def _share(text: str) -> int:
    match = re.fullmatch(r"\s*(\d+)\s*%?\s*", text)
    if match is None:
        raise ValueError(f"{text!r} is not a share; write '15 %'")
    return int(match[1])


_SPAN, _SIZE = _Parsed("span", parse_span), _Parsed("size", parse_size)
_LIMIT, _SHARE = _Parsed("size|share", _size_or_share), _Parsed("share", _share)


def says_options(command: F) -> F:
    """The options that make up what a rule says, given as one `Rule` in `says`."""
    options = (
        click.option("--keep-for", type=_SPAN, help="Older goes, as in '14 days'."),
        click.option("--keep-newest", type=int, help="So many of each group stay. 0: no limit."),
        click.option(
            "--keep-under", type=_LIMIT, multiple=True,
            help="The oldest go above that: '500 MiB', '5 %' of the volume. 0: no limit.",
        ),
        click.option("--only-larger", type=_SIZE, help="Smaller stays, as in '100 MiB'."),
        click.option(
            "--when-below", type=(_SHARE, _SPAN), multiple=True, metavar="SHARE SPAN",
            help="A shorter span while less is free, as in '15 %' '7 days'.",
        ),
        click.option("--hold-for", type=_SPAN, help="Held so long before it goes for good."),
        click.option(
            "--hold-yields-below", type=_SHARE,
            help="What is held goes early while less is free, as in '10 %'. '0 %': never.",
        ),
        click.option("--folder", multiple=True, help="Which folders, for own-folders."),
        click.option("--off/--on", default=None, help="Nothing of it goes, or the rule counts."),
    )  # fmt: skip

    def with_rule(*args: Any, **given: Any) -> Any:
        limits: dict[str, int] = {}
        for limit in given.pop("keep_under"):
            limits |= limit
        folders = given.pop("folder")
        steps = given.pop("when_below")
        options_given = {
            "off": given.pop("off"),
            "keep_for": given.pop("keep_for"),
            "keep_newest": given.pop("keep_newest"),
            "only_larger": given.pop("only_larger"),
            "hold_for": given.pop("hold_for"),
            "hold_yields_below": given.pop("hold_yields_below"),
            "folders": folders or None,
            "pressure": [{"below_percent": b, "keep_for": s} for b, s in steps] or None,
            **limits,
        }
        return command(
            *args, options_given={k: v for k, v in options_given.items() if v is not None}, **given
        )

    with_rule.__name__, with_rule.__doc__ = command.__name__, command.__doc__
    wrapped: Any = with_rule
    wrapped.__click_params__ = list(getattr(command, "__click_params__", []))
    for option in reversed(options):
        wrapped = option(wrapped)
    decorated: F = wrapped
    return decorated


def _said(session: Session, scope: Scope, number: int, category: str) -> ScopedRule | None:
    try:
        return session.shop.rules.get(scope, number, category)
    except NotFoundError:
        return None


def _rule(before: ScopedRule | None, options_given: dict[str, Any]) -> Rule:
    """What is said now, beside what the scope said before."""
    if not options_given:
        raise click.UsageError("Say something: --keep-for, --keep-under, --off or another option.")
    known = before.rule.model_dump(exclude_none=True) if before else {}
    return Rule.model_validate({**known, **options_given})


@command.command("set")
@click.argument("category")
@subject_options
@says_options
@click.option("--yes", is_flag=True, help="Do not ask before setting it.")
@pass_session
def set_rule(
    session: Session,
    category: str,
    options_given: dict[str, Any],
    machine: str | None,
    client: str | None,
    yes: bool,
) -> None:
    """Say what stays of CATEGORY: for the shop, or for one client or machine.

    What is left out stays as it is said now. Before anything is set, the rule is shown in words,
    with what it would remove on all machines that it concerns.
    """
    scope, number = subject(session, machine, client)
    before = _said(session, scope, number, category)
    rule = _rule(before, options_given)
    if not yes:
        # what it means is asked over all machines, which takes a moment
        would = session.shop.rules.what_if(category, rule, scope=scope, subject_id=number)
        console.print(
            f"{category} for {in_words(scope, machine, client)} would be: "
            f"{_would_be(session, scope, category, rule)}."
        )
        console.print(_over_the_shop(would))
        ask("Set it?", yes=False)
    session.shop.rules.put(
        scope, number, category, rule, version=before.version if before else None
    )
    now = _in_force(session, scope, number, category)
    console.print(f"{category} for {in_words(scope, machine, client)}: {now}.")


def _would_be(session: Session, scope: Scope, category: str, rule: Rule) -> str:
    """A rule in words, with what the shop and the catalogue say beside it."""
    shop = next(
        (shop_rule for shop_rule in session.shop.rules.list() if shop_rule.category == category),
        None,
    )
    if shop is None:
        raise click.BadParameter(no_category(category))
    scoped = [(Scope.CATALOGUE, shop.catalogue), (scope, rule)]
    if shop.shop is not None and scope is not Scope.SHOP:
        scoped.append((Scope.SHOP, shop.shop.rule))
    return in_force(scoped).in_words()


def _over_the_shop(answer: WhatIf) -> str:
    about = "" if answer.exact else "about "
    text = (
        f"{about}{show_size(answer.removable_then.size)} would be removed "
        f"({count(answer.removable_then.count, 'item')}) on {count(answer.machines, 'machine')}; "
        f"by the rules in force {show_size(answer.removable_now.size)} goes."
    )
    if answer.stale or answer.never_surveyed:
        text += (
            f"\n{count(answer.stale, 'machine')} looked at too long ago to count on, "
            f"{count(answer.never_surveyed, 'machine')} never."
        )
    return text


def _in_force(session: Session, scope: Scope, number: int, category: str) -> str:
    """What is in force now, or what was said where that has no one answer."""
    if scope is Scope.MACHINE:
        return session.shop.machines.rules(number)[category].in_words()
    if scope is Scope.SHOP:
        return next(r.in_words for r in session.shop.rules.list() if r.category == category)
    return "said; its machines go by it unless they say otherwise themselves"


@command.command("clear")
@click.argument("category")
@subject_options
@pass_session
def clear(session: Session, category: str, machine: str | None, client: str | None) -> None:
    """Remove the rule for CATEGORY at this scope: the next wider rule applies again."""
    if category not in catalogue():
        raise click.BadParameter(no_category(category), param_hint="CATEGORY")
    scope, number = subject(session, machine, client)
    session.shop.rules.remove(session.shop.rules.get(scope, number, category))
    console.print(
        f"{category} for {in_words(scope, machine, client)}: no rule at this scope any longer."
    )


@command.command("preview")
@click.argument("category")
@subject_options
@says_options
@shows_one(WhatIf, rows=WhatIfMachine)
@pass_session
def what_if(
    session: Session,
    category: str,
    options_given: dict[str, Any],
    machine: str | None,
    client: str | None,
    form: Form,
) -> None:
    """What another rule for CATEGORY would remove, by the last surveys. Nothing is touched."""
    scope, number = subject(session, machine, client)
    rule = _rule(_said(session, scope, number, category), options_given)
    answer = session.shop.rules.what_if(category, rule, scope=scope, subject_id=number)
    zone = session.the_shop.clock
    columns = (
        Column("machine", lambda m: m.machine_tag),
        Column("client", lambda m: m.client_name),
        Column("goes now", lambda m: show_size(m.removable_now.size), right=True),
        Column("would be removed", lambda m: show_size(m.removable_then.size), right=True),
        Column("by the rule", lambda m: m.rule_in_words),
        Column(
            "looked at", lambda m: local(m.surveyed_at, zone) + (", too old" if m.stale else "")
        ),
    )
    most = [m for m in answer.most if m.removable_then.count or m.removable_now.count]
    if print_data(form, answer, most):
        return
    print_list(form, most, columns, empty="Nothing would be removed, and nothing goes now.")
    console.print("\n" + _over_the_shop(answer))


# --- all at once -----------------------------------------------------------------------------


@command.command("save")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path), required=False)
@pass_session
def save(session: Session, file: Path | None) -> None:
    """Write all rules and protect lists to a TOML FILE, or print them."""
    text = session.shop.rules.document()
    if file is None:
        click.echo(text, nl=False)
        return
    file.write_text(text, encoding="utf-8")
    console.print(f"Written to {file}.")


@command.command("load")
@click.argument("file", type=FILE)
@click.option("--dry-run", is_flag=True, help="Only show what would change.")
@click.option("--yes", is_flag=True, help="Do not ask before changing.")
@pass_session
def load(session: Session, file: Path, dry_run: bool, yes: bool) -> None:
    """Replace all rules with those in a TOML FILE. Its protect list is added to the present one."""
    text = file.read_text(encoding="utf-8")
    differences = session.shop.rules.apply_document(text)
    columns = (
        Column("what", lambda d: d.what),
        Column("for", lambda d: d.subject or f"the {d.scope}"),
        Column("category", lambda d: d.category),
        Column("now", lambda d: d.before),
        Column("then", lambda d: d.after),
    )
    print_list(TABLE, differences.differences, columns, empty="The file says what is said already.")
    if dry_run or not differences.differences:
        return
    ask("Change this?", yes=yes)
    done = session.shop.rules.apply_document(text, dry_run=False)
    console.print(f"{count(len(done.differences), 'change')} made.")
