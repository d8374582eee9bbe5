"""`phylax person`: the shop's people, and oneself."""

from __future__ import annotations

from pathlib import Path

import click

from phylax.cli.commands.serve import data_option
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.ground.suggestions import did_you_mean
from phylax.core.people.accounts import Person, SignedIn

_ROLES = click.Choice(["owner", "technician", "desk"])


@click.group("person")
def command() -> None:
    """The shop's people, and yourself."""


@command.command("list")
@shows_list(Person)
@pass_session
def list_people(session: Session, form: Form) -> None:
    """List the shop's people."""
    columns = (
        Column("login", lambda p: p.login),
        Column("name", lambda p: p.name),
        Column("role", lambda p: p.role),
        Column("may sign in", _may_sign_in),
    )
    print_list(form, session.shop.people.list(), columns, empty="Nobody yet.")


def _may_sign_in(person: Person) -> str:
    if person.left_at is not None:
        return "left"
    if not person.active:
        return "no"
    return "with a code" if person.needs_code else "yes"


@command.command("add")
@click.argument("login")
@click.option("--name", required=True)
@click.option("--role", type=_ROLES, required=True)
@click.option("--ask-password", is_flag=True, help="Type a password for them now; else by a link.")
@pass_session
def add(session: Session, login: str, name: str, role: str, ask_password: bool) -> None:
    """Add a person. They choose a password by a link that counts once."""
    from phylax.core.people.accounts import NewPerson

    fields: dict[str, str] = {"login": login, "name": name, "role": role}
    if ask_password:
        fields["password"] = click.prompt("Password", hide_input=True, confirmation_prompt=True)
    made = session.shop.people.add(NewPerson.model_validate(fields))
    console.print(f"{made.name} is added, with the login {made.login}.")
    if not ask_password:
        _show_link(session, made)


@command.command("make-link")
@click.argument("login")
@pass_session
def link(session: Session, login: str) -> None:
    """A link by which LOGIN chooses a new password, once: for who forgot theirs."""
    _show_link(session, _whose(session, login))


def _show_link(session: Session, person: Person) -> None:
    shown = session.shop.people.make_link(person.id)
    until = local(shown.until, session.the_shop.clock)
    console.print(f"For {person.name}, once, until {until}:")
    click.echo(f"{session.url}/welcome#{shown.secret}")


@command.command("set-role")
@click.argument("login")
@click.argument("role", type=_ROLES)
@pass_session
def role(session: Session, login: str, role: str) -> None:
    """Say what LOGIN may do from now on."""
    from phylax.core.people.accounts import Role

    person = session.shop.people.set_role(_whose(session, login).id, Role(role))
    console.print(f"{person.name} is {person.role} now.")


@command.command("set-activity")
@click.argument("login")
@click.option("--active/--inactive", required=True, help="Whether they may sign in.")
@pass_session
def activity(session: Session, login: str, active: bool) -> None:
    """Say whether LOGIN may sign in; if not, all they signed in with ends."""
    person = _whose(session, login)
    session.shop.people.set_activity(person.id, active)
    console.print(f"{person.name} {'may sign in' if active else 'can no longer sign in'}.")


@command.command("leave")
@click.argument("login")
@click.option("--yes", is_flag=True, help="Without asking.")
@pass_session
def leave(session: Session, login: str, yes: bool) -> None:
    """LOGIN leaves the shop; what they did stays theirs. Says first what that means."""
    current = _whose(session, login)
    for sentence in session.shop.people.what_leaving_means(current.id).in_words:
        console.print(sentence)
    ask(f"{current.name} leaves?", yes=yes)
    person = session.shop.people.leave_for_good(current.id)
    console.print(f"{person.name} left. 'phylax person return {login}' undoes it.")


@command.command("return")
@click.argument("login")
@pass_session
def bring_back(session: Session, login: str) -> None:
    """LOGIN, who left, is of the shop again, and gets a link to choose a password."""
    current = _whose(session, login)
    meaning = session.shop.people.what_leaving_means(current.id)
    back = session.shop.people.bring_back(current.id)
    for sentence in meaning.in_words:
        console.print(sentence)
    _show_link(session, back)


@command.command("sign-out")
@click.argument("login", required=False)
@pass_session
def sign_out(session: Session, login: str | None) -> None:
    """End every sign-in and token of LOGIN; without one, your own, this one too."""
    if login is None:
        session.shop.people.sign_out_everywhere()
        console.print("You are signed out everywhere.")
    else:
        person = _whose(session, login)
        session.shop.people.sign_out(person.id)
        console.print(f"{person.name} is signed out everywhere.")


@command.command("list-sign-ins")
@shows_list(SignedIn)
@pass_session
def sign_ins(session: Session, form: Form) -> None:
    """List the browsers in which you are signed in."""
    zone = session.the_shop.clock
    columns = (
        Column("sign-in", lambda s: str(s.id), right=True),
        Column("since", lambda s: local(s.since, zone)),
        Column("last used", lambda s: local(s.seen_at, zone)),
        Column("from", lambda s: s.address),
        Column("browser", lambda s: s.browser),
    )
    print_list(form, session.shop.people.sign_ins(), columns, empty="In no browser.")


@command.command("set-password")
@click.option("--present", prompt="Present password", hide_input=True)
@click.option("--new", prompt="New password", hide_input=True, confirmation_prompt=True)
@pass_session
def change_password(session: Session, present: str, new: str) -> None:
    """Change your own password."""
    session.shop.people.change_password(present, new)
    console.print("Changed. Sign in again in your browsers.")


@command.command("make-codes")
@click.option("--off", is_flag=True, help="Sign in without codes again.")
@click.option("--of", "login", help="Take them off somebody who lost what makes their codes.")
@pass_session
def codes(session: Session, off: bool, login: str | None) -> None:
    """Sign in with a code of an app as well: a second step for yourself."""
    people = session.shop.people
    if login is not None:
        person = _whose(session, login)
        people.take_codes_off(person.id)
        console.print(f"{person.name} signs in without codes.")
    elif off:
        people.remove_codes(click.prompt("Code"))
        console.print("You sign in without codes.")
    else:
        begun = people.begin_codes()
        console.print("Give this to an app that makes codes:")
        click.echo(begun.address)
        people.confirm_codes(click.prompt("The code that it shows"))
        console.print("From now on each sign-in needs a code.")


@command.command("require-codes")
@click.argument("whom", type=click.Choice(["nobody", "owners", "everybody"]), required=False)
@pass_session
def codes_for(session: Session, whom: str | None) -> None:
    """Say who has to sign in with a code as well; without WHOM, who has to."""
    from phylax.core.people.accounts import CodesFor

    if whom is not None:
        session.shop.people.set_codes_for(CodesFor(whom))
    console.print(f"With a code: {session.shop.people.codes_for()}.")


@command.command("let-in")
@click.argument("login")
@data_option
@click.option("--url", default="http://127.0.0.1:8610", show_default=True,
              help="Where the console is.")  # fmt: skip
def let_in(login: str, data: Path, url: str) -> None:
    """On the service's own machine: a link for LOGIN where no owner can sign in any more."""
    from phylax.service.people.account_recovery import let_in as make_link

    click.echo(f"{url}/welcome#{make_link(data, login)}")


def _whose(session: Session, login: str) -> Person:
    people = session.shop.people.list()
    person = next((p for p in people if p.login == login), None)
    if person is None:
        meant = did_you_mean(login, (p.login for p in people))
        raise click.UsageError(f"There is nobody with the login {login!r}{meant}")
    return person
