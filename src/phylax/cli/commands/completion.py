"""`phylax completion`: completion for your shell."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class


@click.command("completion")
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
@click.pass_context
def command(ctx: click.Context, shell: str) -> None:
    """Print the completion script for your shell, as in: eval "$(phylax completion bash)"."""
    kind = get_completion_class(shell)
    assert kind is not None
    root = ctx.find_root().command
    click.echo(kind(root, {}, "phylax", "_PHYLAX_COMPLETE").source())
