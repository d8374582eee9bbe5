"""What is known becomes a report: in a client's words, and no longer than somebody reads."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from datetime import date

from phylax.core.checks.findings import Severity
from phylax.core.desk.advice import AdviceKind, AdviceStatus, GivenAdvice
from phylax.core.reporting.document import (
    Block,
    Bullets,
    Column,
    Document,
    Drawing,
    Heading,
    Paragraph,
    Point,
    Table,
)
from phylax.core.reporting.facts import (
    ByHand,
    Changed,
    CheckedThings,
    Cleaned,
    Facts,
    MachineFacts,
    PutBack,
    Remark,
    ReportedAction,
    ReportedVisit,
    VolumeThen,
)
from phylax.core.reporting.language import Language, Words, words
from phylax.core.reporting.request import Part

MOST_MACHINES = 60
MOST_LINES = 60
"""Of one list or table."""
MOST_POINTS = 200
_OFTEN = 6
"""From so many cleanings on they are told as one."""
_LONGEST = 4000
_MOST_FIGURES = 6
_PATH = re.compile(r"^(?:[A-Za-z]:)?[/\\].*[/\\]([^/\\]+)[/\\]?$")
_FATES = {
    AdviceStatus.PROPOSED: "fate_proposed",
    AdviceStatus.TOLD: "fate_told",
    AdviceStatus.ACCEPTED: "fate_accepted",
    AdviceStatus.DECLINED: "fate_declined",
    AdviceStatus.DONE: "fate_done",
}


def compose(facts: Facts, language: Language, leave_out: Collection[Part] = ()) -> Document:
    """The report, without the parts that are to be left out and those that say nothing."""
    w = words(language)
    wanted = [part for part in Part if part not in leave_out]
    shown = facts.machines[:MOST_MACHINES]
    blocks: list[Block] = []
    if facts.cover:
        blocks.append(Paragraph(text=facts.cover))
    if facts.is_of_client:
        title = w.say("title_client")
        blocks += _overview(facts.machines, w)
        for machine in shown:
            name = f"{machine.tag} ({machine.make_and_model})"
            blocks.append(Heading(level=2, text=name if machine.make_and_model else machine.tag))
            blocks += _of_machine(machine, wanted, 3, w)
        if more := len(facts.machines) - len(shown) + facts.more:
            rest = w.count(more, "machine")
            blocks.append(Paragraph(text=w.say("more_machines", machines=rest)))
    else:
        machine = facts.machines[0]
        title = w.say("title_machine", machine=machine.make_and_model or machine.tag)
        blocks += _of_machine(machine, wanted, 2, w)
    span = w.day(facts.first)
    if facts.last > facts.first:
        span = w.say("span", first=span, last=w.day(facts.last))
    about = [w.say("visit_of", visit=facts.visit)] if facts.visit is not None else []
    if not facts.is_of_client:
        about.append(facts.machines[0].tag)
    return Document(
        language=language,
        title=title,
        day=facts.day,
        lines=(w.say("for", client=facts.client), ", ".join([*about, span])),
        blocks=tuple(blocks),
    )


def _overview(machines: Sequence[MachineFacts], w: Words) -> list[Block]:
    columns = (
        Column(name=w.say("machine")),
        Column(name=w.say("cleanings"), is_number=True),
        Column(name=w.say("freed"), is_number=True),
    )
    rows = []
    for machine in machines:
        cleanings = [action for action in machine.actions if isinstance(action, Cleaned)]
        freed = sum(max(0, cleaning.freed) for cleaning in cleanings)
        rows.append((machine.tag, w.number(len(cleanings)), w.size(freed)))
    return [Heading(level=2, text=w.say("machines")), *_table(columns, rows, w)]


def _of_machine(machine: MachineFacts, wanted: Sequence[Part], level: int, w: Words) -> list[Block]:
    sections = {
        Part.TOLD: ("told", _told(machine.visits, w)),
        Part.DONE: ("done", _done(machine.actions, w)),
        Part.FIGURES: ("figures", _figures(machine, w)),
        Part.LET_GO: ("let_go", _let_go(machine, w)),
        Part.LEFT: ("left", _left(machine, w)),
        Part.FOUND: ("found", _found(machine, w)),
        Part.ADVISED: ("advised", _advised(machine.advice, w)),
        Part.NEXT: ("next", _next(machine, w)),
        Part.DRAWING: ("drawing", _drawings(machine.volumes, w)),
    }
    blocks: list[Block] = []
    for part in wanted:
        name, section = sections[part]
        if section:
            blocks.append(Heading.model_validate({"level": level, "text": w.say(name)}))
            blocks += section
    return blocks or [Paragraph(text=w.say("nothing"))]


def _told(visits: Iterable[ReportedVisit], w: Words) -> list[Block]:
    blocks: list[Block] = []
    for visit in visits:
        if visit.closed is None:
            text = w.say("visit_open", visit=visit.number, opened=w.day(visit.opened))
        else:
            text = w.say(
                "visit_closed", visit=visit.number, opened=w.day(visit.opened),
                closed=w.day(visit.closed),
                outcome=w.say("mended" if visit.outcome == "mended" else "not_mended"),
            )  # fmt: skip
        if visit.guaranteed_until:
            text += " " + w.say("guaranteed", day=w.day(visit.guaranteed_until))
        blocks.append(Paragraph(text=text))
        if visit.said:
            blocks.append(Paragraph(text=w.say("quote", said=visit.said[:_LONGEST]), quoted=True))
    return blocks


def _done(actions: Sequence[ReportedAction], w: Words) -> list[Block]:
    cleanings = [action for action in actions if isinstance(action, Cleaned)]
    lines: list[tuple[date, str]] = []
    if len(cleanings) >= _OFTEN:
        days = [cleaning.day for cleaning in cleanings]
        lines.append((days[0], w.say(
            "cleaned_often", cleanings=w.count(len(cleanings), "cleaning"),
            first=w.day(min(days)), last=w.day(max(days)),
            size=w.size(sum(max(0, cleaning.freed) for cleaning in cleanings)),
        )))  # fmt: skip
    for action in actions:
        if isinstance(action, Cleaned) and len(cleanings) >= _OFTEN:
            continue
        lines.append((action.day, f"{w.day(action.day)}: {_in_words(action, w)}"))
    return _bullets([text for _, text in sorted(lines, key=lambda line: line[0])], w)


def _in_words(action: ReportedAction, w: Words) -> str:
    match action:
        case Cleaned():
            if action.freed > 0:
                return w.say("cleaned", size=w.size(action.freed))
            return w.say(
                "cleaned_files", files=w.count(action.gone.count, "file"),
                size=w.size(action.gone.size),
            )  # fmt: skip
        case PutBack():
            return w.say("put_back", files=w.count(action.files, "file"))
        case Changed() if action.is_set_back:
            return w.say("set_back", name=action.name, before=w.value(action.before))
        case Changed():
            return w.say(
                "changed_why" if action.why else "changed", name=action.name,
                before=w.value(action.before), after=w.value(action.after), why=action.why,
            )  # fmt: skip
        case CheckedThings():
            names = ", ".join(w.check(name) for name in action.names)
            if action.findings:
                findings = w.count(action.findings, "finding")
                return w.say("checked_findings", names=names, findings=findings)
            return w.say("checked_clean" if action.could_look else "checked_could_not", names=names)
        case ByHand():
            sentence = "by_hand_word" if action.word else "by_hand"
            return w.say(sentence, title=action.title, word=action.word)
        case Remark():
            return action.text[:_LONGEST]


def _figures(machine: MachineFacts, w: Words) -> list[Block]:
    columns = (
        Column(name=w.say("volume")),
        Column(name=w.say("before"), is_number=True),
        Column(name=w.say("after"), is_number=True),
        Column(name=w.say("of"), is_number=True),
    )
    rows = [
        (volume.name, w.size(volume.before), w.size(volume.after), w.size(volume.capacity))
        for volume in machine.volumes
    ]
    blocks = _table(columns, rows, w)
    if machine.starts:
        before, after = (w.seconds(seconds) for seconds in machine.starts)
        blocks.append(Paragraph(text=w.say("starts_shown", before=before, after=after)))
    return blocks


def _let_go(machine: MachineFacts, w: Words) -> list[Block]:
    columns = (
        Column(name=w.say("what")),
        Column(name=w.say("why")),
        Column(name=w.say("files"), is_number=True),
        Column(name=w.say("size"), is_number=True),
    )
    rows = [
        (*w.category(let_go.category), w.number(let_go.gone.count), w.size(let_go.gone.size))
        for let_go in machine.let_go
    ]
    if not rows:
        return []
    blocks = _table(columns, rows, w)
    if machine.held.count and machine.held_until:
        held = w.say(
            "can_be_put_back", files=w.count(machine.held.count, "file"),
            size=w.size(machine.held.size), day=w.day(machine.held_until),
        )  # fmt: skip
        return [*blocks, Paragraph(text=held)]
    return [*blocks, Paragraph(text=w.say("all_gone"))]


def _left(machine: MachineFacts, w: Words) -> list[Block]:
    columns = (
        Column(name=w.say("reason")),
        Column(name=w.say("files"), is_number=True),
        Column(name=w.say("size"), is_number=True),
    )
    rows = [
        (w.reason(reason), w.number(stays.count), w.size(stays.size))
        for reason, stays in machine.left
    ]
    return _table(columns, rows, w)


def _found(machine: MachineFacts, w: Words) -> list[Block]:
    lines = []
    for finding in machine.findings:
        what = finding.what.rstrip(". ")
        if finding.severity is Severity.FAILING:
            what = w.say("urgent", what=what)
        where = _shorter(finding.where)
        state = w.say("seen_to" if finding.is_settled else "open")
        lines.append(f"{what}{f' ({where})' if where else ''}: {state}.")
    return _bullets(lines, w)


def _shorter(where: str) -> str:
    """No longer a path than a client needs: its last name."""
    path = _PATH.match(where)
    return path[1] if path else where


def _advised(all_advice: Iterable[GivenAdvice], w: Words) -> list[Block]:
    lines = []
    for advice in all_advice:
        if advice.status not in _FATES:
            continue
        is_own = advice.kind is AdviceKind.OTHER or advice.made_by != "Phylax"
        text = advice.text if is_own else w.advice(advice.kind, advice.text)
        figures = "; ".join(
            f"{figure.name}: {figure.value}" for figure in advice.figures[:_MOST_FIGURES]
        )
        because = f" {w.say('because', figures=figures)}" if figures else ""
        lines.append(f"{text}{because} {w.say(_FATES[advice.status])}")
    return _bullets(lines, w)


def _next(machine: MachineFacts, w: Words) -> list[Block]:
    return _bullets([w.say("next_on", day=w.day(day), what=what) for day, what in machine.next], w)


def _drawings(volumes: Iterable[VolumeThen], w: Words) -> list[Block]:
    drawings: list[Block] = []
    for volume in volumes:
        points = _thinned(volume.points)
        if len(points) < 3:
            continue
        (first, before), (last, after) = points[0], points[-1]
        length = max(1, (last - first).days)
        drawings.append(
            Drawing(
                caption=w.say(
                    "drawing_of", volume=volume.name, first=w.day(first), last=w.day(last)
                ),
                alt_text=w.say(
                    "drawing_alt", volume=volume.name, first=w.day(first), last=w.day(last),
                    before=round(100 * before), after=round(100 * after),
                ),
                points=tuple(
                    Point(across=(day - first).days / length, up=min(1.0, max(0.0, share)))
                    for day, share in points
                ),
            )
        )  # fmt: skip
    return drawings


def _thinned(points: Sequence[tuple[date, float]]) -> list[tuple[date, float]]:
    """No more than can be drawn; the first and the last stay."""
    if len(points) <= MOST_POINTS:
        return list(points)
    step = (len(points) - 1) / (MOST_POINTS - 1)
    return [points[round(number * step)] for number in range(MOST_POINTS)]


def _bullets(lines: Sequence[str], w: Words) -> list[Block]:
    if not lines:
        return []
    blocks: list[Block] = [Bullets(lines=tuple(lines[:MOST_LINES]))]
    return blocks + _more(len(lines), w)


def _table(columns: tuple[Column, ...], rows: Sequence[tuple[str, ...]], w: Words) -> list[Block]:
    if not rows:
        return []
    blocks: list[Block] = [Table(columns=columns, rows=tuple(rows[:MOST_LINES]))]
    return blocks + _more(len(rows), w)


def _more(number: int, w: Words) -> list[Block]:
    if number <= MOST_LINES:
        return []
    return [Paragraph(text=w.say("more_lines", lines=w.count(number - MOST_LINES, "line")))]
