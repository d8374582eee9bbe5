"""Write docs/outputs.json: what each command prints as JSON and CSV.

Run by `make contract`; a test compares it with the commands, and their outputs with it.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click
from pydantic import BaseModel
from pydantic.json_schema import models_json_schema

from phylax.cli.root import _phylax
from phylax.cli.terminal.data import paths
from phylax.cli.terminal.forms import SHOWN, Shown

FILE = Path(__file__).parent.parent / "docs/outputs.json"


def shown(command: click.Command, path: str = "") -> Iterator[tuple[str, Shown]]:
    """What each command shows, by its words."""
    if isinstance(command, click.Group):
        context = click.Context(command)
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            assert inner is not None
            yield from shown(inner, f"{path} {name}".strip())
        return
    function: Any = command.callback
    while function is not None:
        if hasattr(function, SHOWN):
            yield path, getattr(function, SHOWN)
            return
        function = getattr(function, "__wrapped__", None)


def document() -> dict[str, Any]:
    """The schema (JSON Schema 2020-12) of every command's outputs."""
    commands = dict(shown(_phylax))
    kinds: dict[type[BaseModel], None] = {}
    for said in commands.values():
        kinds |= {said.whole or said.kind: None}
    refs, schema = models_json_schema([(kind, "serialization") for kind in kinds])
    outputs = {}
    for path, said in commands.items():
        of_one = refs[said.whole or said.kind, "serialization"]
        as_json = of_one if said.whole else {"type": "array", "items": of_one}
        outputs[path] = {"json": as_json, "csv": paths(said.kind)}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "description": "What commands print with --format json and --format csv.",
        "commands": outputs,
        "$defs": schema["$defs"],
    }


if __name__ == "__main__":
    FILE.write_text(json.dumps(document(), indent=1, sort_keys=True) + "\n", "utf-8")
