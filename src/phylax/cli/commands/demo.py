"""`phylax demo`: the made-up shop."""

from __future__ import annotations

from pathlib import Path

import click

_FOLDER = click.Path(file_okay=False, path_type=Path)


@click.group("demo", invoke_without_command=True)
@click.option(
    "--data",
    type=_FOLDER,
    default=Path(".phylax-demo"),
    show_default=True,
    help="Where the demo lives.",
)
@click.option("--port", default=8610, show_default=True, type=click.IntRange(1, 65535))
@click.option("--fresh", is_flag=True, help="Throw the demo away and make it anew.")
@click.option("--only-make", is_flag=True, help="Make the data, start nothing.")
@click.pass_context
def command(context: click.Context, data: Path, port: int, fresh: bool, only_make: bool) -> None:
    """Start the made-up shop with live machines; Ctrl-C stops everything."""
    if context.invoked_subcommand is not None:
        return
    from phylax.demo import live

    live.run(data, port, fresh=fresh, only_make=only_make)


@command.command("restart")
@click.argument("tag")
@click.option("--times", default=1, show_default=True, type=click.IntRange(1, 30))
@click.option(
    "--data", type=_FOLDER, help="Where the demo lives; left out: as named before 'restart'."
)
@click.pass_context
def restart(context: click.Context, tag: str, times: int, data: Path | None) -> None:
    """Let the made-up machine TAG start anew: what was changed takes effect, and each start costs
    what starts with it."""
    from phylax.demo import live

    try:
        starts = live.restart(data or _data_of(context), tag, times)
    except (OSError, ValueError) as error:
        raise click.ClickException(str(error)) from error
    for start in starts:
        cost = start.unattributed + sum((start.programs or {}).values())
        said = f", {start.left_out}" if start.left_out else ""
        click.echo(f"{tag} started anew: {cost:.1f} s of processor time{said}.")
    click.echo("Its agent tells the service within half a minute.")


def _data_of(context: click.Context) -> Path:
    assert context.parent is not None
    data = context.parent.params["data"]
    assert isinstance(data, Path)
    return data
