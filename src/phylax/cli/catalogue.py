"""`phylax catalogue`: the kinds of files that can be let go. Works without a service."""

from __future__ import annotations

import click

from phylax.cli._output import Column, format_option, print_list, print_one
from phylax.core import catalogue
from phylax.core.retention import Scope, in_force


@click.group("catalogue")
def command() -> None:
    """The kinds of files that can be let go."""


def _rule(category: catalogue.Category) -> str:
    return in_force([(Scope.CATALOGUE, category.rule)]).in_words()


@command.command("list")
@format_option
def list_categories(form: str) -> None:
    """Every category, its caution and its default rule."""
    columns = (
        Column("category", lambda c: c.key),
        Column("what", lambda c: c.name),
        Column("caution", lambda c: c.caution),
        Column("default rule", _rule),
    )
    print_list(form, catalogue.catalogue().values(), columns, empty="")


@command.command("show")
@click.argument("category")
@format_option
def show(category: str, form: str) -> None:
    """Explain one category."""
    try:
        found = catalogue.category(category)
    except KeyError as error:
        raise click.UsageError(str(error.args[0])) from error
    systems = sorted({system for where in found.where for system in where.systems})
    pairs = [
        ("category", found.key),
        ("name", found.name),
        ("what it is", found.what),
        ("losing it", found.cost),
        ("caution", str(found.caution)),
        ("age from", found.age),
        ("default rule", _rule(found)),
        ("systems", ", ".join(systems)),
    ]
    print_one(form, found, pairs)
