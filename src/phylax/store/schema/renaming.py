"""Renames keys in JSON texts, for schema files that rename what a text holds."""

from __future__ import annotations

import json


def renamed_keys(text: str | None, names: str) -> str | None:
    """The JSON `text` with keys renamed at every depth, as in "goes=removable holds=total"; what
    is no JSON stays as it is."""
    if text is None:
        return None
    new_names = dict(pair.split("=") for pair in names.split())
    try:
        return json.dumps(
            _renamed(json.loads(text), new_names), ensure_ascii=False, separators=(",", ":")
        )
    except (ValueError, RecursionError):
        return text


def _renamed(value: object, new_names: dict[str, str]) -> object:
    match value:
        case dict():
            return {
                new_names.get(key, key): _renamed(item, new_names) for key, item in value.items()
            }
        case list():
            return [_renamed(item, new_names) for item in value]
    return value
