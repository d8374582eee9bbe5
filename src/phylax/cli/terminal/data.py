"""Models as data for programs: JSON as the service gives it, and CSV of the same fields.

A column of CSV is a field of the model; of a model within, the path to its field (`space.free`).
Sizes are bytes, times RFC 3339 in UTC, spans ISO 8601 durations; lists of plain values stand
parted by ``; ``, everything deeper as JSON.
"""

from __future__ import annotations

import csv
import json
import sys
import types
from collections.abc import Iterable
from typing import Annotated, Any, Union, get_args, get_origin

import click
from pydantic import BaseModel

_DEEPEST = 3


def paths(kind: type[BaseModel], *, depth: int = _DEEPEST) -> list[str]:
    """The columns of a model, in its order."""
    columns = []
    annotations = {name: field.annotation for name, field in kind.model_fields.items()}
    annotations |= {name: field.return_type for name, field in kind.model_computed_fields.items()}
    for name, annotation in annotations.items():
        inner = _model_in(annotation)
        if inner is None or depth == 0:
            columns.append(name)
        else:
            columns += [f"{name}.{path}" for path in paths(inner, depth=depth - 1)]
    return columns


def _model_in(annotation: Any) -> type[BaseModel] | None:
    """The model that a field holds, also where it may be left out; None for everything else."""
    if get_origin(annotation) is Annotated:
        return _model_in(get_args(annotation)[0])
    if get_origin(annotation) in (Union, types.UnionType):
        models = [_model_in(part) for part in get_args(annotation) if part is not type(None)]
        return models[0] if len(models) == 1 else None
    return (
        annotation if isinstance(annotation, type) and issubclass(annotation, BaseModel) else None
    )


def value_at(dumped: Any, path: str) -> Any:
    """What stands at a path of a dumped model; None where a model on the way is left out."""
    for name in path.split("."):
        if not isinstance(dumped, dict):
            return None
        dumped = dumped.get(name)
    return dumped


def print_json_list(models: Iterable[BaseModel], columns: Iterable[str]) -> None:
    # line by line, so that a long listing needs no memory
    columns = tuple(columns)
    click.echo("[", nl=False)
    for number, model in enumerate(models):
        click.echo(("," if number else "") + "\n" + _json(model, columns), nl=False)
    click.echo("\n]")


def _json(model: BaseModel, columns: tuple[str, ...]) -> str:
    if not columns:
        return model.model_dump_json()
    dumped = model.model_dump(mode="json")
    return json.dumps({path: value_at(dumped, path) for path in columns}, ensure_ascii=False)


def print_json_lines(models: Iterable[BaseModel], columns: Iterable[str]) -> None:
    columns = tuple(columns)
    for model in models:
        click.echo(_json(model, columns))


def print_json(model: BaseModel, columns: Iterable[str]) -> None:
    dumped = model.model_dump(mode="json")
    if columns:
        dumped = {path: value_at(dumped, path) for path in columns}
    click.echo(json.dumps(dumped, indent=2, ensure_ascii=False))


def print_csv(models: Iterable[BaseModel], columns: Iterable[str]) -> None:
    columns = list(columns)
    writer = csv.writer(sys.stdout, lineterminator="\n")
    writer.writerow(columns)
    for model in models:
        dumped = model.model_dump(mode="json")
        writer.writerow([cell(value_at(dumped, path)) for path in columns])


def cell(value: Any) -> str:
    """A value as a cell of CSV."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (int, float)):
        return str(value)
    if isinstance(value, list) and not any(isinstance(part, (list, dict)) for part in value):
        return _no_formula("; ".join(str(part) for part in value))
    if isinstance(value, (list, dict)):
        return json.dumps(value, ensure_ascii=False)
    return _no_formula(str(value))


def _no_formula(text: str) -> str:
    """A spreadsheet must not take a name for a formula."""
    is_formula = text[:1] in "=+@\t\r" or (text[:1] == "-" and not text[1:2].isdecimal())
    return f"'{text}" if text.strip("-") and is_formula else text
