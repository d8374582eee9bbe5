"""What is to be told to whom is put together here, as messages that wait to be posted.

What happens within some minutes is told together; what still waits for somebody, because of quiet
hours or a mail server that is away, is taken back and told with the rest.
"""

from __future__ import annotations

import secrets
from datetime import datetime, timedelta
from sqlite3 import Connection

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape

from phylax.core.attention import Attention, in_groups, in_order
from phylax.core.attention.notices import (
    SUMMARY_AT,
    TOGETHER,
    HookMessage,
    MailServer,
    NoticeKind,
    Wishes,
    wanted,
)
from phylax.core.attention.today import in_a_sentence
from phylax.core.clients.shop import Shop
from phylax.core.ground.quantities import count, show_day, show_moment, show_size
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.service.backups.making import what_is_wrong
from phylax.service.context.context import Context
from phylax.store.attention import attention, notices
from phylax.store.clients import shop
from phylax.store.record import seals
from phylax.store.runs import runs
from phylax.store.scheduling import rounds
from phylax.store.trends import outlooks

_AHEAD = timedelta(days=30)
_AT_MOST = 200
_SITE_SHOWN = 3
"""So many machines are named where it is the same on many of a client."""
_pages = Environment(
    loader=PackageLoader("phylax.service.attention.notices", "pages"),
    autoescape=select_autoescape(("html",)),
    trim_blocks=True,
    lstrip_blocks=True,
    undefined=StrictUndefined,
)
_pages.filters["size"] = show_size
_pages.globals["site_shown"] = _SITE_SHOWN
_pages.filters["number"] = count
_pages.filters["day"] = show_day
_pages.filters["moment"] = show_moment


def compose(context: Context) -> None:
    """Put together what is to be told now."""
    now = context.now()
    with context.db.read() as conn:
        the_shop = shop.shop(conn)
        quiet = the_shop is None or not (
            _summaries_due(conn, the_shop, now) or _at_once_due(conn, now)
        )
    if quiet or the_shop is None:
        return
    with context.db.write() as conn:
        _tell_at_once(conn, the_shop, now)
        _summarise(conn, the_shop, now)
        notices.forget_old(conn, at=now)


def _at_once_due(conn: Connection, now: int) -> bool:
    if 0 <= now - notices.last_at_once(conn) < TOGETHER.total_seconds():
        return False
    if not notices.anything_untold(conn):
        return False
    at = from_seconds(now)
    return any(told_item.is_news(at) for told_item in notices.told(conn, at=now))


def _tell_at_once(conn: Connection, the_shop: Shop, now: int) -> None:
    if not _at_once_due(conn, now):
        return
    at = from_seconds(now)
    told = notices.told(conn, at=now)
    known = [item.attention for item in told]
    news = [item.attention for item in told if item.is_news(at)]
    notices.note_told(conn, [(item.id, item.grade) for item in news])
    server = notices.mail_server(conn)
    for wishes in notices.all_wishes(conn) if server else ():
        chosen = wanted(news, wishes.at_once)
        if not chosen:
            continue
        still = {item.id for item in chosen} | set(
            notices.take_back_waiting(conn, wishes.person_id)
        )
        assert server is not None
        all_of_it = in_order(item for item in known if item.needs_somebody and item.id in still)
        _mail(conn, the_shop, server, wishes, "at once", all_of_it, now)
    for hook in notices.hooks(conn):
        chosen = wanted(news, hook.at_once)
        if chosen:
            uid = _new_uid()
            message = HookMessage(
                id=uid, kind="at once", shop=the_shop.name, at=at, attention=tuple(in_order(chosen))
            )
            outgoing = notices.Outgoing(
                uid, "at once", hook.name, _subject(chosen), message.model_dump_json(), now,
                hook_id=hook.id, about=tuple(item.id for item in chosen),
            )  # fmt: skip
            notices.add(conn, outgoing, at=now)


def _new_uid() -> str:
    return secrets.token_hex(16)


def _subject(items: list[Attention]) -> str:
    machines = len({item.machine_id for item in items})
    first = items[0]
    if machines == 1:
        return f"{first.machine_tag}: {first.reason}"
    return (
        f"{count(machines, 'machine')} need attention: "
        f"{first.machine_tag}: {first.reason}, and more"
    )


def _mail(
    conn: Connection,
    the_shop: Shop,
    server: MailServer,
    wishes: Wishes,
    kind: NoticeKind,
    items: list[Attention],
    now: int,
) -> None:
    local = from_seconds(now).astimezone(the_shop.clock)
    uid = _new_uid()
    facts = {
        "shop": the_shop,
        "wishes": wishes,
        "told": items,
        "groups": in_groups(items),
        "now": local,
    }
    outgoing = notices.Outgoing(
        f"{uid}@{server.sender.rpartition('@')[2]}",
        kind,
        wishes.mail or "",
        _subject(items),
        _pages.get_template("at_once.txt").render(facts),
        html=_pages.get_template("at_once.html").render(facts),
        person_id=wishes.person_id,
        about=tuple(item.id for item in items),
        due_at=_due(wishes, local, now),
    )
    notices.add(conn, outgoing, at=now)


# --- summaries -------------------------------------------------------------------------------


def _summary_kinds(the_shop: Shop, now: int) -> list[tuple[NoticeKind, datetime]]:
    """The summaries of today, once their hour has come."""
    local = from_seconds(now).astimezone(the_shop.clock)
    if local.time() < SUMMARY_AT:
        return []
    kinds: list[tuple[NoticeKind, datetime]] = [("daily", local)]
    if local.weekday() == 0:
        kinds.append(("weekly", local))
    return kinds


def _uid_of(kind: NoticeKind, local: datetime, wishes: Wishes, server: MailServer) -> str:
    """The same for one day and person: a summary is made once, whatever is restarted."""
    name = f"{kind}.{local:%Y%m%d}.{wishes.person_id}"
    return f"{name}@{server.sender.rpartition('@')[2]}"


def _summaries_wanted(
    conn: Connection, the_shop: Shop, now: int
) -> list[tuple[NoticeKind, datetime, Wishes, MailServer]]:
    server = notices.mail_server(conn)
    if server is None:
        return []
    return [
        (kind, local, wishes, server)
        for kind, local in _summary_kinds(the_shop, now)
        for wishes in notices.all_wishes(conn)
        if (wishes.daily if kind == "daily" else wishes.weekly)
        and not notices.is_made(conn, _uid_of(kind, local, wishes, server))
    ]


def _summaries_due(conn: Connection, the_shop: Shop, now: int) -> bool:
    return bool(_summaries_wanted(conn, the_shop, now))


def _summarise(conn: Connection, the_shop: Shop, now: int) -> None:
    for kind, local, wishes, server in _summaries_wanted(conn, the_shop, now):
        facts = _summary_facts(conn, the_shop, kind, local, now) | {"wishes": wishes}
        outgoing = notices.Outgoing(
            _uid_of(kind, local, wishes, server),
            kind,
            wishes.mail or "",
            f"{the_shop.name}: {facts['sentence']}",
            _pages.get_template("summary.txt").render(facts),
            html=_pages.get_template("summary.html").render(facts),
            person_id=wishes.person_id,
            due_at=_due(wishes, local, now),
        )
        notices.add(conn, outgoing, at=now)


def _due(wishes: Wishes, local: datetime, now: int) -> int:
    """Now, or when the person's quiet hours end."""
    end = wishes.quiet_end(local)
    return now if end is None else to_seconds(end)


def _summary_facts(
    conn: Connection, the_shop: Shop, kind: NoticeKind, local: datetime, now: int
) -> dict[str, object]:
    needs = in_order(item for item in attention.all_open(conn, at=now) if item.needs_somebody)
    coming = rounds.next_ones(conn, limit=8)
    days = 1 if kind == "daily" else 7
    done = runs.ended_since(conn, now - days * 86400, limit=1000)
    tags = {machine.id: machine.tag for machine in shop.described(conn)}
    soon = outlooks.crossing_before(conn, now + int(_AHEAD.total_seconds()), _AT_MOST)
    return {
        "shop": the_shop,
        "kind": kind,
        "now": local,
        "sentence": in_a_sentence(needs, coming, local),
        "shop_needs": what_is_wrong(conn, now),
        "seal": next((seal.note for seal in seals.listed(conn, most=1)), ""),
        "told": needs,
        "groups": in_groups(needs),
        "rounds": [
            coming_round
            for coming_round in coming
            if coming_round.next_at and not coming_round.paused
        ],
        "runs": len(done),
        "failed": sum(run.state in ("failed", "missed") for run in done),
        "freed": sum(run.freed or 0 for run in done if run.work == "clean"),
        "days": days,
        "soon": [
            (tags.get(outlook.machine_id, "?"), outlook)
            for outlook in soon
            if outlook.crosses and outlook.crosses.likely
        ],
    }


def compose_trial(conn: Connection, the_shop: Shop, wishes: Wishes, *, now: int) -> bool:
    """A message by which somebody sees whether mail comes; False where no mail can go out."""
    server = notices.mail_server(conn)
    if server is None or not wishes.mail:
        return False
    text = f"Mail from {the_shop.name} reaches you."
    outgoing = notices.Outgoing(
        f"{_new_uid()}@{server.sender.rpartition('@')[2]}",
        "trial",
        wishes.mail,
        f"{the_shop.name}: mail reaches you",
        text,
        html=_pages.get_template("trial.html").render(shop=the_shop, text=text),
        person_id=wishes.person_id,
        due_at=now,
    )
    return notices.add(conn, outgoing, at=now)
