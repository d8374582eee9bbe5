"""Removing the folder of a batch in which nothing is held any more, and what is left of one whose
removal was interrupted. Nothing that is held is ever removed here."""

from __future__ import annotations

from contextlib import suppress

from phylax.agent import files
from phylax.agent.files.walk import remove_tree

PART = ".part"
"""Ends the name of a folder that is no batch yet, or none any more."""


def remove_part(name: str, top: int) -> bool:
    """Remove what a batch's making or its removal left; whether nothing of it is left."""
    return remove_tree(name + PART, top, lambda path, why: None).whole


def remove_batch(name: str, top: int) -> bool:
    """Remove an empty batch; whether nothing of it is left. It loses its name in one step, so that
    a removal that is interrupted leaves nothing that looks like a batch."""
    remove_part(name, top)
    files.move(name, top, name + PART, top)
    return remove_part(name, top)


def remove_remains(name: str, top: int, things: str) -> None:
    """Make room for a batch where an earlier version left half a one: folders without anything in
    them, and its notes. Where anything is held in it, it stays as it is: OSError."""
    try:
        inside = files.open_folder(name, top)
    except FileNotFoundError:
        return
    try:
        with suppress(FileNotFoundError):
            held = files.open_folder(things, inside)
            try:
                for part in files.names(held):
                    files.rmdir(part, held)
            finally:
                files.close(held)
            files.rmdir(things, inside)
    finally:
        files.close(inside)
    remove_batch(name, top)
