"""Whom a rule or a protection is for: the shop, a client or a machine."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from phylax.cli.session.session import Session
from phylax.core.retention import Scope

F = TypeVar("F", bound=Callable[..., Any])


def subject_options(command: F) -> F:
    """`--machine` and `--client`; without either, the shop."""
    command = click.option("--client", help="Only for this client's machines.")(command)
    return click.option("--machine", help="Only for this machine.")(command)


def subject(session: Session, machine: str | None, client: str | None) -> tuple[Scope, int]:
    """The scope and the number of whom it is for."""
    if machine and client:
        raise click.UsageError("Give --machine or --client, not both.")
    if machine:
        return Scope.MACHINE, session.shop.machines.get(machine).id
    if client:
        return Scope.CLIENT, session.shop.clients.find(client).id
    return Scope.SHOP, 0


def in_words(scope: Scope, machine: str | None, client: str | None) -> str:
    return machine or client or f"the {scope}"
