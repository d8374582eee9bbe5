"""`phylax question`: what decides about groups of settings, in a client's words."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import click

from phylax.cli.session.scopes import subject, subject_options
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, print_list
from phylax.core.retention import Scope
from phylax.core.tuning.answers import AnsweredQuestion


@click.group("question")
def command() -> None:
    """What decides about groups of settings, and what was answered."""


@command.command("list")
@subject_options
@shows_list(AnsweredQuestion)
@pass_session
def list_questions(session: Session, machine: str | None, client: str | None, form: Form) -> None:
    """Every question, with what counts for a client or a machine."""
    scope, number = _of(session, machine, client)
    _show(session.shop.questions.of(scope, number), form)


@command.command("answer")
@click.argument("question")
@click.argument("answer", type=click.Choice(["yes", "no", "none"]))
@click.option("--comment", default="", help="As the client put it.")
@subject_options
@pass_session
def answer(
    session: Session,
    question: str,
    answer: str,
    comment: str,
    machine: str | None,
    client: str | None,
) -> None:
    """Note what was answered to QUESTION; 'none' takes an answer back."""
    scope, number = _of(session, machine, client)
    said: Literal["yes", "no"] | None = None
    if answer == "yes":
        said = "yes"
    elif answer == "no":
        said = "no"
    session.shop.questions.answer(scope, number, question, said, comment=comment)
    console.print(f"{question}: {answer}, for {machine or client}.")


def _of(
    session: Session, machine: str | None, client: str | None
) -> tuple[Literal["client", "machine"], int]:
    scope, number = subject(session, machine, client)
    if scope is Scope.SHOP:
        raise click.UsageError("Give --client or --machine.")
    return ("machine" if scope is Scope.MACHINE else "client"), number


def _show(asked: Sequence[AnsweredQuestion], form: Form) -> None:
    columns = (
        Column("key", lambda a: a.question.key),
        Column("answer", lambda a: a.answer.answer if a.answer else "–"),
        Column("of", lambda a: a.answer.scope if a.answer else ""),
        Column("question", lambda a: a.question.text, below=True),
        Column("as the client put it", lambda a: a.answer.comment if a.answer else "", below=True),
    )
    print_list(form, asked, columns, empty="There are no questions.")
