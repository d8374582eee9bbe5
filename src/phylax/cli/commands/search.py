"""`phylax search`: everything that the shop knows."""

from __future__ import annotations

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, local, print_list
from phylax.core.record.searching import Hit, HitKind


@click.command("search")
@click.argument("words", nargs=-1, required=True)
@click.option(
    "--only",
    type=click.Choice([kind.value for kind in HitKind]),
    multiple=True,
    help="Of this kind; may be said more than once.",
)
@click.option("--limit", type=click.IntRange(1, 5000), default=8, show_default=True,
              help="At most so many of each kind.")  # fmt: skip
@shows_list(Hit)
@pass_session
def command(
    session: Session, words: tuple[str, ...], only: tuple[str, ...], limit: int, form: Form
) -> None:
    """Look up WORDS in machines, clients, visits, entries, advice, programs and files.

    Fields narrow it: machine:TAG, client:NAME, by:NAME, kind:KIND, from:DAY, to:DAY.
    """
    kinds = [HitKind(kind) for kind in only]
    asked = " ".join(f'"{word}"' if " " in word and ":" not in word else word for word in words)
    results = session.shop.search(asked, only=kinds, limit=limit)
    zone = session.the_shop.clock
    hits = [hit for group in results.groups for hit in group.hits]
    columns = (
        Column("what", lambda hit: str(hit.kind)),
        Column("title", lambda hit: hit.title),
        Column("machine", lambda hit: hit.machine_tag),
        Column("client", lambda hit: hit.client_name),
        Column("when", lambda hit: local(hit.at, zone) if hit.at else ""),
        Column("line", lambda hit: hit.line, below=True),
    )
    print_list(form, hits, columns, empty="Nothing fits. Try fewer words, or the beginning of one.")
    more = [str(group.kind) for group in results.groups if group.more]
    if more and form.is_table:
        click.echo(f"There is more of: {', '.join(more)}. Say --limit.")
