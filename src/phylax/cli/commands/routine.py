"""`phylax routine`: lists of steps that are done together."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
import tomli_w

from phylax.cli.commands.round import find_routine
from phylax.cli.session.following import follow_each, wait_option
from phylax.cli.session.session import Session, pass_session
from phylax.cli.session.volumes import volume_options
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, console, print_list, print_one
from phylax.cli.terminal.types import FILE
from phylax.core.ground.quantities import count
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.scheduling.routines import Routine, RoutineEdit


@click.group("routine")
def command() -> None:
    """Lists of steps that are done together: survey, clean, second look, tune, restart,
    by hand."""


@command.command("list")
@shows_list(Routine)
@pass_session
def list_routines(session: Session, form: Form) -> None:
    """List the routines."""
    columns = (
        Column("routine", lambda r: str(r.id), right=True),
        Column("name", lambda r: r.name),
        Column("steps", lambda r: ", ".join(str(s.title or s.kind) for s in r.steps)),
        Column("version", lambda r: str(r.version), right=True),
        Column("from", lambda r: "came with Phylax" if r.shipped else r.changed_by),
    )
    print_list(form, session.shop.routines.list(), columns, empty="No routines yet.")


@command.command("show")
@click.argument("routine")
@click.option("--version", type=int, help="As it was in this version.")
@click.option("--toml", "as_toml", is_flag=True, help="As a file to change and give back.")
@shows_one(Routine)
@pass_session
def show(session: Session, routine: str, version: int | None, as_toml: bool, form: Form) -> None:
    """The steps of a routine."""
    current = session.shop.routines.get(find_routine(session, routine), version=version)
    if as_toml:
        click.echo(_toml(current), nl=False)
        return
    pairs = [("routine", f"{current.name}, version {current.version}"), ("for", current.note)]
    pairs += [(f"{number}", step.in_words) for number, step in enumerate(current.steps, 1)]
    print_one(form, current, pairs)


def _toml(routine: Routine) -> str:
    edit = RoutineEdit(name=routine.name, note=routine.note, steps=routine.steps)
    plain: dict[str, Any] = edit.model_dump(mode="json", exclude_defaults=True)
    return tomli_w.dumps(plain)


@command.command("add")
@click.argument("file", type=FILE)
@pass_session
def add(session: Session, file: Path) -> None:
    """Make a routine from a TOML file, such as 'phylax routine show NAME --toml' prints."""
    _tell(session.shop.routines.add(_read(file)))


@command.command("change")
@click.argument("routine")
@click.argument("file", type=FILE)
@pass_session
def change(session: Session, routine: str, file: Path) -> None:
    """Replace a routine with a TOML file. The previous version is kept."""
    current = session.shop.routines.get(find_routine(session, routine))
    _tell(session.shop.routines.change(current, _read(file)))


def _read(file: Path) -> RoutineEdit:
    try:
        return RoutineEdit.model_validate(tomllib.loads(file.read_text("utf-8")))
    except tomllib.TOMLDecodeError as error:
        raise click.BadParameter(f"{file} is no TOML: {error}", param_hint="FILE") from error


def _tell(made: Routine) -> None:
    console.print(
        f"Routine {made.id}, {made.name}: {count(len(made.steps), 'step')}, version {made.version}"
    )
    for note in made.put_right:
        console.print(f"  put right: {note}")


@command.command("copy")
@click.argument("routine")
@click.argument("name")
@pass_session
def copy(session: Session, routine: str, name: str) -> None:
    """Copy a routine under another NAME, to change it."""
    current = session.shop.routines.get(find_routine(session, routine))
    edit = RoutineEdit(name=name, note=current.note, steps=current.steps)
    _tell(session.shop.routines.add(edit))


@command.command("run")
@click.argument("routine")
@click.argument("machines", nargs=-1, required=True)
@click.option("--on-bench", is_flag=True, help="It is on the bench: rounds wait for its list.")
@volume_options
@click.option("--yes", is_flag=True, help="Do not ask first.")
@wait_option(default=False)
@pass_session
def run(
    session: Session,
    routine: str,
    machines: Sequence[str],
    on_bench: bool,
    volumes: VolumeChoice,
    yes: bool,
    wait: bool,
) -> None:
    """Run a routine now, on one machine or many."""
    chosen = [session.shop.machines.get(tag) for tag in machines]
    plan = session.shop.routines.get(find_routine(session, routine))
    where = "" if volumes.is_all else f", {volumes.in_words()}"
    console.print(f"{plan.name} on {', '.join(machine.tag for machine in chosen)}{where}:")
    for number, step in enumerate(plan.steps, 1):
        console.print(f"  {number:>2}  {step.in_words}")
    ask("Run it now?", yes=yes)
    ids = [machine.id for machine in chosen]
    runs = session.shop.routines.run(plan.id, ids, on_bench=on_bench, volumes=volumes)
    follow_each(session, runs, wait=wait)


@command.command("end")
@click.argument("routine")
@pass_session
def end(session: Session, routine: str) -> None:
    """Retire a routine. What was done with it stays in the record."""
    session.shop.routines.end(find_routine(session, routine))
    console.print(f"{routine} is offered no more.")
