"""Following an action from the terminal, and what became of each part of it."""

from __future__ import annotations

import sys

from phylax.cli.session.following import exit_code, follow
from phylax.cli.session.session import Session
from phylax.cli.terminal.output import console
from phylax.core.actions import ActionPart
from phylax.core.runs.runs import Run, RunDetail


def follow_action(session: Session, run: Run, *, wait: bool) -> None:
    """Say what became of each part, and end with the run's code."""
    if not wait:
        console.print(f"Run {run.id} waits for {run.machine_tag}.")
        return
    ended, parts = followed(session, run)
    for part in parts:
        console.print(f"  {part.in_words}", highlight=False)
    if not parts:
        console.print(f"{ended.state}{f': {ended.reason}' if ended.reason else ''}.")
    if any(part.needs_restart for part in parts):
        console.print(f"It takes effect after a restart: phylax upkeep restart {run.machine_tag}")
    sys.exit(exit_code(ended))


def followed(session: Session, run: Run) -> tuple[RunDetail, list[ActionPart]]:
    """The run's end, and what became of each part."""
    ended = follow(session, run)
    return ended, list(session.shop.upkeep.acted(run.id))
