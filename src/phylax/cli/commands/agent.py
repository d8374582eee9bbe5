"""`phylax agent`: the Phylax program on a client's machine."""

from __future__ import annotations

import logging
import shlex
from pathlib import Path

import click

from phylax.cli.terminal.confirming import ask

_folder = click.option(
    "--data",
    "folder",
    envvar="PHYLAX_AGENT_DATA",
    type=click.Path(file_okay=False, path_type=Path),
    help="The agent's own folder; the system's convention if left out.",
)


@click.group("agent")
def command() -> None:
    """The Phylax program on a client's machine."""


@command.command("enrol")
@click.argument("url")
@click.argument("code")
@_folder
@click.option(
    "--stand-in",
    type=click.Path(exists=True, file_okay=False, path_type=Path),
    help="A folder that pretends to be a machine, instead of this one.",
)
@click.option(
    "--home",
    "homes",
    multiple=True,
    type=click.Path(exists=True, file_okay=False),
    help="Look after this home only; repeat for more. Everyone's if left out.",
)
@click.option(
    "--drive",
    "drives",
    multiple=True,
    metavar="LETTER:",
    help="On Windows, look after this drive only; repeat for more. All fixed ones if left out.",
)
@click.option(
    "--own-folder",
    "own_folders",
    multiple=True,
    type=click.Path(exists=True, file_okay=False, resolve_path=True),
    help="A folder that the shop may name for cleaning here, kept in guard.toml; repeat for more.",
)
@click.option(
    "--readings-every", default=900, show_default=True, type=click.IntRange(5, 86400),
    help="Seconds between readings.",
)  # fmt: skip
@click.option("--clear-http", is_flag=True,
              help="Without TLS: everybody on the way reads the machine's key.")  # fmt: skip
@click.option("--fingerprint", default="", metavar="SHA-256",
              help="Of the shop's certificate, by 'phylax shop make-certificate'.")  # fmt: skip
def enrol(
    url: str,
    code: str,
    folder: Path | None,
    stand_in: Path | None,
    homes: tuple[str, ...],
    drives: tuple[str, ...],
    own_folders: tuple[str, ...],
    readings_every: int,
    clear_http: bool,
    fingerprint: str,
) -> None:
    """Enrol this machine at a service by a one-time CODE."""
    from phylax.agent.runtime import commands

    try:
        config = commands.enrol(
            commands.home_at(folder),
            url,
            code,
            stand_in,
            homes,
            own_folders,
            readings_every,
            drives,
            clear_http=clear_http,
            fingerprint=fingerprint,
        )
    except (OSError, ValueError) as error:
        raise click.ClickException(str(error)) from error
    at = f" --data {shlex.quote(str(folder))}" if folder else ""
    click.echo(f"Enrolled as {config.tag}. Start the agent: phylax agent start{at}")


@command.command("write-unit")
@_folder
def unit(folder: Path | None) -> None:
    """Print what makes the system start the agent by itself.

    On Linux a unit file for systemd, on Windows a task for its task scheduler; see docs/agent.md.
    """
    from phylax.agent.runtime import commands

    try:
        click.echo(commands.unit(commands.home_at(folder)), nl=False)
    except ValueError as error:
        raise click.ClickException(str(error)) from error


@command.command("start")
@_folder
def start(folder: Path | None) -> None:
    """Work until told to stop."""
    from phylax.agent.runtime import commands

    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(message)s")
    logging.getLogger("httpx").setLevel(logging.WARNING)
    home = commands.home_at(folder)
    try:
        config = home.config()
        click.echo(f"The agent of {config.tag} calls {config.url}. Ctrl-C stops it.")
        commands.start(home)
    except (commands.NotEnrolledError, commands.BusyError, commands.LooseGuardError) as error:
        raise click.ClickException(str(error)) from error


@command.command("once")
@_folder
def once(folder: Path | None) -> None:
    """One round trip: report, do the work there is, and end."""
    from phylax.agent.runtime import commands

    try:
        worked = commands.once(commands.home_at(folder))
    except (commands.NotEnrolledError, commands.BusyError, commands.LooseGuardError) as error:
        raise click.ClickException(str(error)) from error
    click.echo("Reported; the work is done." if worked else "Reported; there was no work.")


@command.command("forget")
@_folder
@click.option("--yes", is_flag=True, help="Without asking.")
def forget(folder: Path | None, yes: bool) -> None:
    """Delete all that this agent holds, and all that it noted. Afterwards it is not enrolled
    any more; guard.toml stays."""
    from phylax.agent.runtime import commands

    home = commands.home_at(folder)
    ask(
        "What is held cannot be put back then, nor settings that were changed. Forget it all?",
        yes=yes,
    )
    try:
        is_done = commands.forget(home)
    except (OSError, commands.NotEnrolledError, commands.BusyError,
            commands.LooseGuardError) as error:  # fmt: skip
        raise click.ClickException(str(error)) from error
    if not is_done:
        raise click.ClickException("Not everything that is held could be deleted; see the log.")
    click.echo(f"Nothing is left in {home.folder} but what its administrator wrote.")


@command.command("put-back-settings")
@_folder
@click.argument("changes", nargs=-1)
@click.option("--all", "everything", is_flag=True, help="All that is in force.")
def put_back_settings(folder: Path | None, changes: tuple[str, ...], everything: bool) -> None:
    """Put settings back at this machine, also where the service cannot be reached.

    Without CHANGES it lists what is in force and changes nothing.
    """
    from phylax.agent.runtime import commands

    home = commands.home_at(folder)
    try:
        in_force = commands.settings_in_force(home)
        if everything:
            changes = tuple(change.id for change in in_force)
        if not in_force:
            click.echo("Nothing that was changed is in force here.")
            return
        if not changes:
            for change in in_force:
                name = change.name or change.entry
                click.echo(f"{change.id}  {name}: was {change.before}, now {change.after}")
            click.echo("Put back with 'phylax agent put-back-settings CHANGE ...', or --all.")
            return
        outcomes = commands.put_settings_back(home, changes)
    except KeyError as unknown:
        raise click.ClickException(
            f"{unknown.args[0]} is no change in force here; leave it out to see them."
        ) from None
    except (OSError, ValueError, commands.NotEnrolledError) as error:
        raise click.ClickException(str(error)) from error
    for change, why in outcomes:
        name = change.name or change.entry
        click.echo(f"{name}: left, {why}" if why else f"{name}: {change.before} again")
    if any(why for _, why in outcomes):
        raise click.exceptions.Exit(1)
