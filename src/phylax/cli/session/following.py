"""Following a run from the terminal, with a bar while it works and its end in words."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import click
from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn, TimeElapsedColumn
from rich.text import Text

from phylax.cli.session.session import EXIT_NOT_DONE, EXIT_PARTLY, EXIT_STOPPED, Session
from phylax.cli.terminal.output import console, errors
from phylax.core.catalogue import catalogue
from phylax.core.ground.quantities import count, show_seconds, show_size
from phylax.core.protocol import Progress as RunProgress
from phylax.core.runs.runs import Run, RunDetail, RunState

F = TypeVar("F", bound=Callable[..., Any])


def wait_option(*, default: bool = True) -> Callable[[F], F]:
    """`--wait/--no-wait`, given to the command as `wait`."""
    return click.option(
        "--wait/--no-wait", default=default, show_default=True, help="Follow it to its end."
    )


def follow(session: Session, run: Run, *, quiet: bool = False) -> RunDetail:
    """Follow a run to its end; Ctrl-C stops following, not the run."""
    try:
        if quiet or not console.is_terminal:
            return _follow_in_lines(session, run, quiet=quiet)
        return _follow_with_bar(session, run)
    except KeyboardInterrupt:
        errors.print(
            f"Run {run.id} on {run.machine_tag} goes on. Follow it again with 'phylax run follow "
            f"{run.id}'; stop it with 'phylax run call-off {run.id}'."
        )
        sys.exit(EXIT_STOPPED)


def _follow_with_bar(session: Session, run: Run) -> RunDetail:
    bar = Progress(
        SpinnerColumn(),
        TextColumn("{task.description}"),
        BarColumn(bar_width=30),
        TextColumn("{task.fields[told]}"),
        TimeElapsedColumn(),
        console=console,
        transient=True,
    )
    last: RunDetail | None = None
    with bar:
        task = bar.add_task(_waits(run), total=None, told="")
        for last in session.shop.runs.follow(run.id):
            progress = last.progress
            if progress is None:
                bar.update(task, description=_state(last))
                continue
            bar.update(
                task,
                description=f"{run.machine_tag}: {progress.step} {progress.category}",
                total=progress.total_items,
                completed=progress.items,
                told=_told(progress),
            )
    assert last is not None
    return last


def _follow_in_lines(session: Session, run: Run, *, quiet: bool) -> RunDetail:
    """In a pipe or a file: a line on standard error whenever it gets to something else."""
    last: RunDetail | None = None
    said = ""
    for last in session.shop.runs.follow(run.id):
        progress = last.progress
        line = (
            _state(last)
            if progress is None
            else f"{run.machine_tag}: {progress.step} {progress.category}".rstrip()
        )
        if line != said and not quiet:
            errors.print(line)
        said = line
    assert last is not None
    return last


def _waits(run: Run) -> str:
    return f"{run.machine_tag}: waiting for it to call, which it does when it is on"


def _state(run: RunDetail) -> str:
    return _waits(run) if run.state is RunState.WAITING else f"{run.machine_tag}: {run.state}"


def follow_each(session: Session, runs: Sequence[Run], *, wait: bool) -> None:
    """Say which runs wait for which machines; where it is wanted follow them to their ends, and
    end with the worst of their codes."""
    for run in runs:
        what = ", ".join(run.categories) or run.routine_name or run.work
        console.print(f"Run {run.id} waits for {run.machine_tag}: {run.routine_name or what}")
    if not wait:
        return
    worst = 0
    for run in runs:
        ended = follow(session, run)
        print_end(ended)
        worst = max(worst, exit_code(ended))
    sys.exit(worst)


def _told(progress: RunProgress) -> str:
    words = count(progress.items, "item")
    if progress.size or progress.step not in ("check", "act", "wait"):
        words += f", {show_size(progress.size)}"
    if progress.items_per_second:
        words += f", {count(round(progress.items_per_second), 'item')} a second"
    if progress.seconds_left is not None:
        words += f", {show_seconds(progress.seconds_left)} left"
    return words


def print_end(run: RunDetail) -> None:
    """How a run ended: expected against removed against freed, and what was left."""
    why = f" – {run.reason}" if run.reason else ""
    where = "" if run.volumes.is_all else f" ({run.volumes.in_words()})"
    console.print(
        Text.assemble(f"Run {run.id} on {run.machine_tag}{where}: ", (str(run.state), "bold"), why)
    )
    if run.work in ("survey", "look at settings", "check", "act"):
        return
    if run.expected:
        console.print(f"  expected  {_tally(run.expected.count, run.expected.size)}")
    if run.put_back and run.work == "put back":
        console.print(f"  put back  {_tally(run.put_back.count, run.put_back.size)}")
    if run.removed and run.work != "put back":
        console.print(f"  removed   {_tally(run.removed.count, run.removed.size)}")
    if run.held and run.held.count:
        console.print(
            f"  held      {_tally(run.held.count, run.held.size)} – see 'phylax hold list "
            f"{run.machine_tag}'"
        )
    if run.freed is not None:
        more = "more" if run.freed >= 0 else "less"
        console.print(f"  the volumes show {show_size(abs(run.freed))} {more} free")
    for words in run.balance.why if run.balance else ():
        console.print(f"            {words}", style="dim")
    for outcome in run.outcomes:
        for stay in outcome.left:
            if stay.reason.should_have_gone and run.balance:
                continue  # said above
            tally = _tally(stay.count, stay.size)
            console.print(f"  left      {_label(outcome.category)}: {tally} – {stay.reason}")
    for item in run.left[:20]:
        console.print(f"            {item.place} › {item.path} – {item.reason}", style="dim")


def _label(key: str) -> str:
    """What people call a category; of one that only a newer service knows, its key."""
    known = catalogue().get(key)
    return known.name if known else key


def _tally(items: int, size: int) -> str:
    return f"{count(items, 'item')}, {show_size(size)}"


def exit_code(run: RunDetail) -> int:
    """0 done, 5 something left, 6 failed or not done."""
    if run.state is RunState.DONE:
        return 0
    return EXIT_PARTLY if run.state is RunState.PARTLY else EXIT_NOT_DONE
