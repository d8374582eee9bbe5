"""Following a run from the terminal, with a bar while it works and its end in words."""

from __future__ import annotations

from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

from phylax.cli._output import console
from phylax.cli._session import EXIT_NOT_DONE, EXIT_PARTLY, Session
from phylax.core.quantities import count, show_size
from phylax.core.runs import Run, RunDetail, RunState


def follow(session: Session, run: Run, *, quiet: bool = False) -> RunDetail:
    """Follow a run to its end; Ctrl-C stops following, not the run."""
    bar = Progress(
        SpinnerColumn(),
        TextColumn("{task.description}"),
        BarColumn(bar_width=30),
        TextColumn("{task.fields[told]}"),
        TimeElapsedColumn(),
        console=console,
        disable=quiet,
        transient=True,
    )
    last: RunDetail | None = None
    with bar:
        task = bar.add_task("waiting for the machine", total=None, told="")
        for last in session.shop.runs.follow(run.id):
            progress = last.progress
            if progress is None:
                bar.update(task, description=f"{run.machine_tag}: {last.state}")
                continue
            expected = last.expected.count if progress.step == "clean" and last.expected else None
            bar.update(
                task,
                description=f"{run.machine_tag}: {progress.step} {progress.category}",
                total=expected,
                completed=progress.items,
                told=f"{count(progress.items, 'item')}, {show_size(progress.size)}",
            )
    assert last is not None
    return last


def print_end(run: RunDetail) -> None:
    """How a run ended: expected against removed against freed, and what was left."""
    console.print(f"Run {run.id} on {run.machine_tag}: [bold]{run.state}[/bold]", end="")
    console.print(f" – {run.reason}" if run.reason else "")
    if run.work != "clean":
        return
    if run.expected:
        console.print(f"  expected  {_tally(run.expected.count, run.expected.size)}")
    if run.removed:
        console.print(f"  removed   {_tally(run.removed.count, run.removed.size)}")
    if run.freed is not None:
        console.print(f"  the volumes show {show_size(run.freed)} more free")
    for outcome in run.outcomes:
        for stay in outcome.left:
            told = _tally(stay.count, stay.size)
            console.print(f"  left      {outcome.category}: {told} – {stay.reason}")
    for item in run.left[:20]:
        console.print(f"            {item.place} › {item.path} – {item.reason}", style="dim")


def _tally(items: int, size: int) -> str:
    return f"{count(items, 'item')}, {show_size(size)}"


def exit_code(run: RunDetail) -> int:
    """0 done, 5 something left, 6 failed or not done."""
    if run.state is RunState.DONE:
        return 0
    return EXIT_PARTLY if run.state is RunState.PARTLY else EXIT_NOT_DONE
