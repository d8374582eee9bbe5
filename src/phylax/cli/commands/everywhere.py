"""One change on many machines: `phylax program everywhere`, `phylax setting everywhere`, and what
follows from them."""

from __future__ import annotations

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.ground.quantities import count
from phylax.core.tuning.changes import PROGRAMS, ChangeState
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.setting import settings
from phylax.core.tuning.shared import LEAST_HALVED, SharedChange
from phylax.core.tuning.trials import Outcome
from phylax.core.tuning.what_if import WhatIfLine


@click.group("everywhere")
def command() -> None:
    """One program on many machines: one yes, half first, put back for all."""


@click.group("everywhere")
def settings_command() -> None:
    """One setting on many machines: one yes, put back for all."""


def _proposed(session: Session, *, programs: bool) -> list[WhatIfLine]:
    """What the rules would change, of programs or of settings."""
    lines = session.shop.shared_changes.proposed()
    return [line for line in lines if (line.setting == PROGRAMS) is programs]


@settings_command.command("list-proposed")
@shows_list(WhatIfLine)
@pass_session
def proposed_settings(session: Session, form: Form) -> None:
    """What the rules would change over the whole shop, by setting."""
    columns = (
        Column("setting", lambda line: line.setting),
        Column("becomes", lambda line: line.becomes),
        Column("changes on", lambda line: str(len(line.changes_on)), right=True),
        Column("yes", lambda line: "needs approval" if line.needs_approval else ""),
        Column("kept", _stays),
        Column("what", lambda line: line.name, below=True),
    )
    lines = _proposed(session, programs=False)
    print_list(form, lines, columns, empty="Every setting is as the shop wants it.")


@settings_command.command("change")
@click.argument("setting")
@click.option("--comment", default="", help="Why, or who agreed, as in 'agreed by mail'.")
@click.option("--yes", is_flag=True, help="Do not ask before changing.")
@click.option("--dry-run", is_flag=True, help="Only say on which machines.")
@pass_session
def change_setting(session: Session, setting: str, comment: str, yes: bool, dry_run: bool) -> None:
    """Set SETTING on all machines on which the rules want it otherwise."""
    meant = [line for line in _proposed(session, programs=False) if line.setting == setting]
    if not meant:
        raise click.UsageError(
            f"The rules change {setting!r} nowhere; what they change is in "
            "'phylax setting everywhere list-proposed'."
        )
    for line in meant:
        console.print(f"{line.name}: {line.becomes}, on {_machines(session, line)}.")
        console.print(f"  {settings()[setting].notice} {settings()[setting].cost}")
    if dry_run:
        return
    ask("Change them as soon as they call?", yes=yes)
    for line in meant:
        assert line.value is not None
        made = session.shop.shared_changes.set(
            setting, line.value, line.changes_on, comment=comment
        )
        console.print(f"Shared change {made.id}: {count(len(made.machines), 'machine')} now.")


def _machines(session: Session, line: WhatIfLine) -> str:
    tags = {machine.id: machine.tag for machine in session.shop.machines.list()}
    named = ", ".join(tags.get(number, str(number)) for number in line.changes_on)
    return f"{count(len(line.changes_on), 'machine')}: {named}"


@command.command("list-proposed")
@shows_list(WhatIfLine)
@pass_session
def proposed(session: Session, form: Form) -> None:
    """What the rules would change over the whole shop, by program."""
    columns = (
        Column("program", lambda line: line.name),
        Column("becomes", lambda line: line.becomes),
        Column("changes on", lambda line: str(len(line.changes_on)), right=True),
        Column("yes", lambda line: "needs approval" if line.needs_approval else ""),
        Column("kept", _stays),
        Column("key", lambda line: line.program, below=True),
    )
    lines = _proposed(session, programs=True)
    print_list(form, lines, columns, empty="Everything runs as the shop wants it.")


def _stays(line: WhatIfLine) -> str:
    return ", ".join(f"on {len(ids)} ({reason})" for reason, ids in line.kept_on.items())


@command.command("change")
@click.argument("program")
@click.argument("intent", type=click.Choice([str(intent) for intent in Intent]))
@click.option("--half-first", is_flag=True, help="Half of them now, compared with the others.")
@click.option("--comment", default="", help="Why, or who agreed, as in 'agreed by mail'.")
@click.option("--yes", is_flag=True, help="Do not ask before changing.")
@click.option("--dry-run", is_flag=True, help="Only say on which machines.")
@pass_session
def change(
    session: Session,
    program: str,
    intent: str,
    half_first: bool,
    comment: str,
    yes: bool,
    dry_run: bool,
) -> None:
    """Let PROGRAM (its key or name) run by INTENT on all machines on which the rules want it."""
    lines = _proposed(session, programs=True)
    meant = [line for line in lines if program in (line.program, line.name)]
    if not meant:
        raise click.UsageError(
            f"The rules change {program!r} nowhere: see 'phylax program everywhere list-proposed'."
        )
    if len(meant) > 1:
        keys = ", ".join(line.program for line in meant)
        raise click.UsageError(f"{program!r} is several programs; give one's key: {keys}.")
    (line,) = meant
    console.print(f"{line.name}: {intent}, on {_machines(session, line)}.")
    if half_first and len(line.changes_on) < LEAST_HALVED:
        console.print(f"Fewer than {LEAST_HALVED} cannot be compared; all of them are changed now.")
    if dry_run:
        return
    ask("Change them as soon as they call?", yes=yes)
    made = session.shop.shared_changes.make(
        line.program, Intent(intent), line.changes_on, half_first=half_first, comment=comment
    )
    now = sum(machine.run_id is not None for machine in made.machines)
    waits = len(made.machines) - now
    later = f"; {waits} wait for the other half's turn" if waits else ""
    console.print(f"Shared change {made.id}: {count(now, 'machine')} now{later}.")


@command.command("list")
@shows_list(SharedChange)
@pass_session
def list_shared(session: Session, form: Form) -> None:
    """Changes on many machines, the newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda s: str(s.id), right=True),
        Column("what", lambda s: s.name),
        Column("becomes", lambda s: s.becomes),
        Column("in force", lambda s: str(_count(s, ChangeState.MADE)), right=True),
        Column("put back", lambda s: str(_count(s, ChangeState.PUT_BACK)), right=True),
        Column("waits", lambda s: str(sum(m.run_id is None for m in s.machines)), right=True),
        Column("by", lambda s: f"{s.who}, {local(s.at, zone)}"),
        Column("outcome", outcome, below=True),
    )
    shared = session.shop.shared_changes.list()
    print_list(form, shared, columns, empty="Nothing was changed on many machines.")


def _count(shared: SharedChange, state: ChangeState) -> int:
    return sum(machine.state is state for machine in shared.machines)


def outcome(shared: SharedChange) -> str:
    """How the first half moved against the other, in words; empty where it was not halved."""
    judged = shared.judged
    if judged is None:
        return ""
    if judged.likely is None or judged.least is None or judged.most is None:
        return f"{Outcome.OPEN}: three machines of each half need five starts that count"
    likely, least, most = (
        f"{100 * share:+.0f} %" for share in (judged.likely, judged.least, judged.most)
    )
    return f"{judged.outcome}: a start {likely} against the other half ({least} to {most})"


@command.command("go-on")
@click.argument("number", type=int)
@pass_session
def go_on(session: Session, number: int) -> None:
    """The other half of shared change NUMBER has its turn."""
    made = session.shop.shared_changes.go_on(number)
    console.print(f"{made.name}: every machine has its turn as soon as it calls.")


@command.command("put-back")
@click.argument("number", type=int)
@click.option("--yes", is_flag=True, help="Do not ask first.")
@pass_session
def put_back(session: Session, number: int, yes: bool) -> None:
    """Put shared change NUMBER back wherever it is in force."""
    shared = session.shop.shared_changes.get(number)
    standing = _count(shared, ChangeState.MADE)
    if standing:
        ask(f"Put {shared.name} back on {count(standing, 'machine')}?", yes=yes)
    session.shop.shared_changes.put_back(number)
    console.print(f"{shared.name}: {count(standing, 'machine')} as soon as they call.")


for either in (list_shared, put_back):
    settings_command.add_command(either)
