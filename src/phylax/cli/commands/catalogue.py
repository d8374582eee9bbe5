"""`phylax catalogue`: the kinds of files that can be removed. Works without a service."""

from __future__ import annotations

import click

from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, print_list, print_one
from phylax.core import catalogue
from phylax.core.catalogue import Category
from phylax.core.retention import Scope, in_force


@click.group("catalogue")
def command() -> None:
    """The kinds of files that can be removed."""


def _rule(category: catalogue.Category) -> str:
    return category.in_words(in_force([(Scope.CATALOGUE, category.rule)]))


@command.command("list")
@shows_list(Category)
def list_categories(form: Form) -> None:
    """Every category, its caution and its default rule."""
    columns = (
        Column("category", lambda c: c.key),
        Column("what", lambda c: c.name),
        Column("caution", lambda c: c.caution),
        Column("systems", lambda c: ", ".join(c.systems)),
        Column("default rule", _rule),
    )
    print_list(form, catalogue.catalogue().values(), columns, empty="")


_AGES = {
    "modified": "the last change",
    "deleted": "being moved to the trash",
    "created": "being made",
    "used": "the last use",
}


def _place(where: catalogue.Where) -> str:
    """One place in a line: where, which names, and what must be closed."""
    below = [f"{where.base}/{below}".rstrip("/") for below in where.below]
    words = [", ".join(below)]
    if where.names:
        words.append(f"only {', '.join(where.names)}")
    if where.leave:
        words.append(f"not {', '.join(where.leave)}")
    if where.program:
        words.append(f"{where.label or where.program[0]} must be closed")
    return "; ".join(words)


@command.command("show")
@click.argument("category")
@shows_one(Category)
def show(category: str, form: Form) -> None:
    """Explain one category."""
    try:
        kind = catalogue.category(category)
    except KeyError as error:
        raise click.UsageError(str(error.args[0])) from error
    pairs = [
        ("category", kind.key),
        ("name", kind.name),
        ("what it is", kind.description),
        ("losing it", kind.cost),
        ("caution", str(kind.caution)),
        ("rights", "administrator's" if kind.admin else "each person's own"),
        ("age from", _AGES[kind.age]),
        ("default rule", f"{_rule(kind)}. {kind.why_rule}"),
    ]
    for system in kind.systems:
        pairs += [(f"on {system}", "\n".join(map(_place, kind.on(system))))]
    print_one(form, kind, pairs)
