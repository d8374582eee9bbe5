"""`phylax machine`: clients' computers."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import click
from rich.text import Text

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import LOOK_HERE, Column, console, local, print_list, print_one
from phylax.core.clients.facts import FactName
from phylax.core.clients.machine_list import MachineSort
from phylax.core.clients.shop import EnrolmentCode, Machine, MachineEdit, Volume
from phylax.core.ground.machines import System
from phylax.core.ground.quantities import parse_size, show_share, show_size
from phylax.core.ground.values import edit_of


@click.group("machine")
def command() -> None:
    """Clients' computers."""


@command.command("list")
@click.argument("words", required=False, default="")
@click.option("--client", help="Only this client's.")
@click.option(
    "--system",
    "systems",
    multiple=True,
    type=click.Choice([system.value for system in System]),
    help="Only of this system; may be repeated.",
)
@click.option("--nearly-full", is_flag=True, help="Only with a volume over its threshold.")
@click.option("--without-round", is_flag=True, help="Only those that no round covers.")
@click.option("--not-enrolled", is_flag=True, help="Only those without an agent.")
@click.option("--retired", is_flag=True, help="Only those that are retired.")
@click.option(
    "--sort",
    type=click.Choice([sort.value for sort in MachineSort]),
    default=MachineSort.NUMBER.value,
    show_default=True,
)
@click.option("--reverse", "descending", is_flag=True, help="The other way round.")
@shows_list(Machine, sorts=False)
@pass_session
def list_machines(
    session: Session,
    words: str,
    client: str | None,
    systems: tuple[str, ...],
    nearly_full: bool,
    without_round: bool,
    not_enrolled: bool,
    retired: bool,
    sort: str,
    descending: bool,
    form: Form,
) -> None:
    """List machines; all of WORDS are looked for in tag, client, make, model and serial."""
    shop = session.the_shop
    columns = (
        Column("tag", lambda m: m.tag),
        Column("client", lambda m: m.client_name),
        Column("system", lambda m: m.system),
        Column("tightest volume", lambda m: _tightest(m, m.limit_percent)),
        Column("free", lambda m: show_size(v.free) if (v := _fullest(m)) else "–", right=True),
        Column("last cleaned", lambda m: local(m.cleaned_at, shop.clock)),
        Column("last contact", lambda m: local(m.seen_at, shop.clock)),
    )
    machines = session.shop.machines.list(
        client_id=session.shop.clients.find(client).id if client else None,
        words=words,
        systems=[System(system) for system in systems],
        nearly_full=nearly_full,
        without_round=without_round,
        not_enrolled=not_enrolled,
        retired=retired,
        sort=MachineSort(sort),
        descending=descending,
    )
    print_list(form, machines, columns, empty="No such machines.")


def _fullest(machine: Machine) -> Volume | None:
    return max(
        machine.volumes, key=lambda v: v.used / v.capacity if v.capacity else 0, default=None
    )


def _tightest(machine: Machine, threshold: int) -> Text:
    volume = _fullest(machine)
    if volume is None:
        return Text("not read yet", style="dim")
    full = volume.is_nearly_full(threshold)
    share = show_share(volume.used, volume.capacity)
    filled = round(10 * volume.used_share)
    bar = "█" * filled + "·" * (10 - filled)
    words = f"{volume.mount:<3} {bar} {share}{' nearly full' if full else ''}"
    return Text(words, style=f"bold {LOOK_HERE}" if full else "")


@command.command("show")
@click.argument("machine")
@shows_one(Machine)
@pass_session
def show_machine(session: Session, machine: str, form: Form) -> None:
    """What a machine is, whose, and how full."""
    _print(session, session.shop.machines.get(machine), form)


def _print(session: Session, current: Machine, form: Form) -> None:
    zone = session.the_shop.clock
    pairs = [
        ("tag", current.tag),
        ("client", current.client_name),
        ("system", str(current.system)),
        ("make and model", f"{current.make} {current.model}".strip() or "–"),
        ("serial number", current.serial or "–"),
        ("memory", show_size(current.memory) if current.memory else "–"),
        *(
            (name, str(value))
            for name, value in (
                ("processor", current.processor),
                ("version", current.system_version),
                ("bought in", current.year),
                ("used for", current.used_for),
                ("used by", current.used_by),
                ("stands at", current.location),
                ("note", current.note),
            )
            if value
        ),
        ("agent", current.agent_version or "not enrolled"),
        ("last contact", local(current.seen_at, zone)),
        ("last cleaned", local(current.cleaned_at, zone)),
    ]
    if current.retired_at is not None:
        why = f": {current.retired_why}" if current.retired_why else ""
        pairs.append(("retired", f"{local(current.retired_at, zone)}{why}"))
    pairs += [
        (
            f"volume {v.mount}",
            f"{show_size(v.used)} of {show_size(v.capacity)} used "
            f"({show_share(v.used, v.capacity)}), {show_size(v.free)} free",
        )
        for v in current.volumes
    ]
    pairs += [
        (
            f"its {fact.name.replace('_', ' ')}",
            f"reads as {_fact(fact.name, fact.detected.value)} ({local(fact.detected.at, zone)}); "
            f"{fact.stated.source or 'somebody'} says {_fact(fact.name, fact.stated.value)}",
        )
        for fact in session.shop.machines.facts(current.id)
        if fact.differs and fact.detected and fact.stated
    ]
    print_one(form, current, pairs)


def _fact(name: FactName, value: str) -> str:
    return show_size(int(value)) if name is FactName.MEMORY else value


def _field_options(function: Callable[..., None]) -> Callable[..., None]:
    """What is written down of a machine."""
    for option in (
        click.option("--note"),
        click.option("--location", help="Where it stands."),
        click.option("--used-by", help="Who uses it."),
        click.option("--used-for", help="What it is used for."),
        click.option("--year", type=click.IntRange(1980, 2100), help="It was bought in."),
        click.option("--system-version", help="As in 'Windows 11 24H2'."),
        click.option("--processor"),
        click.option("--memory", callback=lambda c, p, v: _size(v), help="As in '16 GiB'."),
        click.option("--serial"),
        click.option("--model"),
        click.option("--make"),
    ):
        function = option(function)
    return function


@command.command("add")
@click.argument("tag")
@click.option("--client", "client", required=True, help="Number or name of the client.")
@click.option(
    "--system", type=click.Choice(["windows", "macos", "linux"]), required=True, help="Its system."
)
@_field_options
@shows_one(Machine)
@pass_session
def add_machine(
    session: Session, /, tag: str, client: str, system: str, form: Form, **fields: object
) -> None:
    """Add a machine."""
    named = {name: value for name, value in fields.items() if value is not None}
    of = {"tag": tag, "client_id": session.shop.clients.find(client).id, "system": system}
    made = session.shop.machines.add(MachineEdit.model_validate(of | named))
    print_one(form, made, [("number", str(made.id)), ("tag", made.tag)])
    if form.is_table:
        console.print(
            f"Next: 'phylax machine make-code {made.tag}' gives its agent's one-time code."
        )


@command.command("change")
@click.argument("machine")
@click.option("--tag", help="Another tag; stick on a new label.")
@click.option("--client", help="Number or name of the client whose it is from now on.")
@_field_options
@shows_one(Machine)
@pass_session
def change_machine(
    session: Session, /, machine: str, client: str | None, form: Form, **fields: object
) -> None:
    """Change what is written down of MACHINE; what is not named stays. What is emptied ('') is
    again as its agent reads it."""
    current = session.shop.machines.get(machine)
    named = {name: value for name, value in fields.items() if value is not None}
    if client is not None:
        named["client_id"] = session.shop.clients.find(client).id
    if not named:
        raise click.UsageError("Name what changes, as in --serial CO1234567.")
    changed = session.shop.machines.change(current, edit_of(MachineEdit, current, **named))
    _print(session, changed, form)


@command.command("make-label")
@click.argument("machine")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@pass_session
def label(session: Session, machine: str, file: Path) -> None:
    """Write the code on MACHINE's label, which opens its page, into FILE as SVG. Whole sheets are
    printed in the console."""
    current = session.shop.machines.get(machine)
    (made,) = session.shop.machines.labels([current.id], session.url)
    file.write_text(made.picture, "utf-8")
    console.print(f"{file} opens {made.address}.")


def _size(text: str | None) -> int | None:
    if text is None:
        return None
    try:
        return parse_size(text)
    except ValueError as error:
        raise click.BadParameter(str(error)) from error


@command.command("make-code")
@click.argument("machine")
@shows_one(EnrolmentCode)
@pass_session
def make_code(session: Session, machine: str, form: Form) -> None:
    """Make the one-time code by which an agent enrols."""
    code = session.shop.machines.enrolment_code(machine)
    until = local(code.expires_at, session.the_shop.clock)
    print_one(form, code, [("code", code.code), ("good until", until)])
    if form.is_table:
        console.print(f"On the machine: phylax agent enrol {session.url} {code.code}")


@command.command("withdraw")
@click.argument("machine")
@click.option("--yes", is_flag=True, help="Do not ask first.")
@pass_session
def withdraw(session: Session, machine: str, yes: bool) -> None:
    """Withdraw a machine's agent: its key no longer counts."""
    current = session.shop.machines.get(machine)
    console.print(
        f"{current.tag} of {current.client_name}: its agent can no longer call, its rounds are "
        "missed, and what it holds stays there. A new code enrols it again: "
        f"phylax machine make-code {current.tag}"
    )
    ask("Withdraw its agent?", yes=yes)
    session.shop.machines.withdraw_agent(machine)
    console.print(f"The agent of {machine} is withdrawn; its key is no longer valid.")


@command.command("retire")
@click.argument("machine")
@click.option("--why", default="", help="As in 'sold'; it stands in the record.")
@click.option("--yes", is_flag=True, help="Without asking.")
@pass_session
def retire(session: Session, machine: str, why: str, yes: bool) -> None:
    """The shop looks after MACHINE no more. Says first what becomes of its rounds, and of what
    waits or is held."""
    current = session.shop.machines.get(machine)
    for sentence in session.shop.machines.retirement(machine).in_words:
        console.print(sentence)
    ask(f"Retire {current.tag}?", yes=yes)
    session.shop.machines.retire(current, why)
    console.print(f"{current.tag} is retired. 'phylax machine return {current.tag}' undoes it.")


@command.command("return")
@click.argument("machine")
@pass_session
def bring_back(session: Session, machine: str) -> None:
    """MACHINE is looked after again."""
    current = session.shop.machines.get(machine)
    meaning = session.shop.machines.retirement(machine)
    session.shop.machines.bring_back(current)
    console.print(f"{current.tag} is back.")
    for sentence in meaning.in_words:
        console.print(sentence)
