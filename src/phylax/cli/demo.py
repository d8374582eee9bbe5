"""`phylax demo`: the made-up shop."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("demo")
@click.option(
    "--data",
    type=click.Path(file_okay=False, path_type=Path),
    default=Path(".phylax-demo"),
    show_default=True,
    help="Where the demo lives.",
)
@click.option("--port", default=8610, show_default=True, type=click.IntRange(1, 65535))
@click.option("--fresh", is_flag=True, help="Throw the demo away and make it anew.")
@click.option("--only-make", is_flag=True, help="Make the data, start nothing.")
def command(data: Path, port: int, fresh: bool, only_make: bool) -> None:
    """Start the made-up shop with live machines; Ctrl-C stops everything."""
    from phylax.demo import live

    live.run(data, port, fresh=fresh, only_make=only_make)
