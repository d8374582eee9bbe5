"""Examples of commands: a line or two in every help, from one table that a test runs."""

from __future__ import annotations

import copy
import tomllib
from functools import cache
from importlib import resources

import click


@cache
def examples() -> dict[str, list[str]]:
    """By the command's words, without `phylax`: what one types."""
    text = resources.files("phylax.cli").joinpath("examples.toml").read_text("utf-8")
    read: dict[str, dict[str, str | list[str]]] = tomllib.loads(text)
    by_command = {}
    for noun, of_noun in read.items():
        for verb, lines in of_noun.items():
            command = f"{noun} {verb}".strip()
            by_command[command] = [lines] if isinstance(lines, str) else lines
    return by_command


def show_examples(command: click.Command, path: str) -> None:
    """Let the help of a command, and of those within it, end with its examples."""
    if isinstance(command, click.Group):
        for name, inner in command.commands.items():
            # some stand under two nouns, with other examples
            command.commands[name] = copy.copy(inner)
            show_examples(command.commands[name], f"{path} {name}")
    lines = examples().get(path, [])
    if lines and command.epilog is None:
        shown = "\n".join(f"  phylax {line}" for line in lines)
        command.epilog = f"\b\nExample:\n{shown}"
