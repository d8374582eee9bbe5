"""The report for a client: what it says, in which words, and no longer than somebody reads."""

from __future__ import annotations

from datetime import UTC, date, datetime

import pytest

from phylax.core.catalogue import catalogue
from phylax.core.checks.findings import Severity
from phylax.core.desk.advice import AdviceKind, AdviceStatus, Figure, GivenAdvice
from phylax.core.ground.tally import Tally
from phylax.core.reporting import facts as f
from phylax.core.reporting.composing import MOST_LINES, MOST_MACHINES, MOST_POINTS, compose
from phylax.core.reporting.document import Bullets, Document, Drawing, Heading, Paragraph, Table
from phylax.core.reporting.language import Language, words
from phylax.core.reporting.request import Part, ReportRequest
from phylax.core.retention.rules import Reason
from phylax.core.tuning.programs import Intent

DAY = date(2026, 11, 29)
GIB = 2**30


def advice(status: AdviceStatus, text: str = "More memory.", by: str = "Phylax") -> GivenAdvice:
    at = datetime(2026, 11, 20, tzinfo=UTC)
    return GivenAdvice(
        id=1, machine_id=1, kind=AdviceKind.MEMORY, text=text, status=status, by=by, at=at,
        figures=(Figure(name="Memory", value="4.0 GiB"),), made_by=by, made_at=at,
    )  # fmt: skip


MACHINE = f.MachineFacts(
    tag="oakes-laptop",
    make_and_model="Pelham Fold 13",
    visits=(
        f.ReportedVisit(
            12, date(2026, 11, 3), date(2026, 11, 5), "mended", "It howls", date(2027, 5, 5)
        ),
        f.ReportedVisit(13, DAY, None, None, "", None),
    ),
    actions=(
        f.Cleaned(date(2026, 11, 3), 3 * GIB, Tally(count=1200, size=3 * GIB)),
        f.Cleaned(date(2026, 11, 4), -5, Tally(count=1, size=10)),
        f.Changed(date(2026, 11, 4), "Tunebox", "at start", "on demand", "", False),
        f.Changed(date(2026, 11, 5), "Tunebox", "at start", "on demand", "", True),
        f.CheckedThings(date(2026, 11, 4), ("Malware",), 0, True),
        f.CheckedThings(date(2026, 11, 5), ("File systems",), 2, True),
        f.ByHand(date(2026, 11, 4), "Fan cleaned", ""),
        f.PutBack(date(2026, 11, 5), 1),
    ),
    volumes=(
        f.VolumeThen("C:", 100 * GIB, 5 * GIB, 8 * GIB,
                     tuple((date(2026, 11, day), day / 100) for day in range(1, 29))),
    ),
    starts=(64.4, 9.26),
    let_go=(f.LetGo("trash", Tally(count=1200, size=3 * GIB)),),
    held=Tally(count=7, size=GIB),
    held_until=date(2026, 12, 3),
    left=((Reason.IN_USE, Tally(count=3, size=100)),),
    findings=(
        f.ReportedFinding("A disk is about to fail.", "C:", Severity.FAILING, False),
        f.ReportedFinding("Malware", "C:\\Users\\Bram\\game.exe", Severity.WARNING, True),
    ),
    advice=(advice(AdviceStatus.TOLD), advice(AdviceStatus.DROPPED, "secret")),
    next=((date(2026, 12, 1), "Light weekly"),),
)  # fmt: skip
FACTS = f.Facts(
    client="Bram Oakes", machines=(MACHINE,), first=date(2026, 11, 3), last=DAY, day=DAY, visit=12
)


def text_of(document: Document) -> str:
    lines = [document.title, *document.lines]
    for block in document.blocks:
        match block:
            case Heading() | Paragraph():
                lines.append(block.text)
            case Bullets():
                lines += block.lines
            case Table():
                lines += [" | ".join(row) for row in block.rows]
            case Drawing():
                lines += [block.caption, block.alt_text]
    return "\n".join(lines)


def test_it_says_what_was_done_in_a_clients_words() -> None:
    text = text_of(compose(FACTS, "en"))
    for sentence in (
        "What we did for Pelham Fold 13\nFor Bram Oakes\n"
        "Visit 12, oakes-laptop, 3 November 2026 to 29 November 2026",
        "Visit 12: with us from 3 November 2026 to 5 November 2026, mended. "
        "We guarantee the work until 5 May 2027.",
        "“It howls”",
        "Visit 13: with us since 29 November 2026.",
        "3 November 2026: Cleaned up: 3.0 GiB freed.",
        "4 November 2026: Cleaned up: 1 file deleted, 10 B.",
        "Tunebox: was starting with the machine, is now starting when it is used.",
        "Tunebox: put back to starting with the machine.",
        "Checked: Malware. All in order.",
        "Checked: File systems. We found 2 things to deal with.",
        "By hand: Fan cleaned.",
        "Put back 1 file.",
        "C: | 5.0 GiB | 8.0 GiB | 100.0 GiB",
        "its processor was busy for 64 seconds; now it is for 9.3.",
        "Trash | Deleted files that wait in the trash of every person and every volume. | 1,200",
        "Of this, 7 files (1.0 GiB) are still on the machine and can be put back until "
        "3 December 2026.",
        "in use at that time | 3 | 100 B",
        "Urgent: A disk is about to fail (C:): to be dealt with.",
        "Malware (game.exe): dealt with.",
        "More memory. Because: Memory: 4.0 GiB. We are waiting for your answer.",
        "1 December 2026: Light weekly",
        "Free space of C: as a line: 1 per cent on 1 November 2026, 28 per cent on 28 November",
    ):
        assert sentence in text
    assert "secret" not in text and "Users" not in text


def test_in_german_no_sentence_of_ours_is_english() -> None:
    """Names and what people wrote stay as they are."""
    text = text_of(compose(FACTS, "de"))
    for sentence in (
        "Auftrag 12: bei uns vom 3. November 2026 bis 5. November 2026, repariert.",
        "„It howls“",
        "3. November 2026: Aufgeräumt: 3,0 GiB frei gemacht.",
        "Tunebox: vorher „startet von selbst“, jetzt „startet, wenn man es benutzt“.",
        "Papierkorb | Gelöschte Dateien, die im Papierkorb warten. | 1.200 | 3,0 GiB",
        "wurde gerade benutzt | 3 | 100 B",
        "Mehr Arbeitsspeicher. Denn: Memory: 4.0 GiB. Ihre Antwort steht aus.",
        "1 Datei entfernt, 10 B",
    ):
        assert sentence in text
    for english in (" the ", " was ", "free", " is ", "November 2026 to"):
        assert english not in text.replace("A disk is about to fail", "")


@pytest.mark.parametrize("language", ["en", "de"])
def test_every_language_has_all_that_can_be_said(language: Language) -> None:
    w = words(language)
    english = words("en")
    assert {key: set(part) for key, part in english._texts.items() if key in ("text", "noun")} == {
        key: set(part) for key, part in w._texts.items() if key in ("text", "noun")
    }
    for reason in Reason:
        assert w.reason(reason)
    for intent in Intent:
        assert w.value(intent) != intent or language == "en"
    names = {w.category(key) for key in catalogue()}
    assert len(names) == len(catalogue()) and all(name and what for name, what in names)
    if language != "en":
        assert not names & {english.category(key) for key in catalogue()}
        for kind in AdviceKind:
            assert kind is AdviceKind.OTHER or w.advice(kind, "-") != "-"


def test_parts_are_left_out_and_what_says_nothing_is_none() -> None:
    only_next = compose(FACTS, "en", [part for part in Part if part is not Part.NEXT])
    assert text_of(only_next).endswith("What comes next\n1 December 2026: Light weekly")
    nothing = FACTS._replace(machines=(f.MachineFacts("bare", ""),), cover="It was the fan.")
    assert text_of(compose(nothing, "en")).endswith(
        "It was the fan.\nNo work was done on it in this time."
    )


def test_much_is_bounded_and_says_so() -> None:
    often = tuple(f.Cleaned(date(2026, 11, 1), GIB, Tally(count=1, size=GIB)) for _ in range(200))
    said = tuple(f.Remark(DAY, "x" * 9000) for _ in range(500))
    many = tuple((date(2020, 1, 1).replace(year=2020 + n // 300), 0.5) for n in range(3000))
    machine = MACHINE._replace(
        actions=often + said, volumes=(f.VolumeThen("/", GIB, 0, 0, many),), starts=None
    )
    of_client = FACTS._replace(machines=(machine,) * 300, is_of_client=True, visit=None)
    document = compose(of_client, "en")
    text = text_of(document)
    assert "200 cleanings between 1 November 2026 and 1 November 2026: 200.0 GiB freed." in text
    assert f"{501 - MOST_LINES} more lines are not shown here. Ask us for them." in text
    assert f"{300 - MOST_MACHINES} more machines are not shown here." in text
    assert f"{300 - MOST_LINES} more lines are not shown here." in text
    for block in document.blocks:
        if isinstance(block, Bullets):
            assert len(block.lines) <= MOST_LINES and max(map(len, block.lines)) < 4100
        if isinstance(block, Drawing):
            assert len(block.points) <= MOST_POINTS
    headings = [b.text for b in document.blocks if isinstance(b, Heading) and b.level == 2]
    assert headings[1:] == ["oakes-laptop (Pelham Fold 13)"] * MOST_MACHINES


def test_braces_in_what_people_wrote_are_not_read() -> None:
    hostile = "{shop} {0} {visit.__class__} {{x}} %s"
    machine = MACHINE._replace(
        visits=(f.ReportedVisit(1, DAY, None, None, hostile, None),),
        actions=(f.Changed(DAY, hostile, hostile, hostile, hostile, False),),
        next=((DAY, hostile),),
    )
    text = text_of(compose(FACTS._replace(machines=(machine,)), "en"))
    assert text.count(hostile) == 6


@pytest.mark.parametrize(
    ("asked", "why"),
    [
        ({}, "over one visit, one machine or one client"),
        ({"visit": 1, "machine_id": 2}, "over one visit, one machine or one client"),
        ({"visit": 1, "first": "2026-01-01"}, "its own span"),
        ({"client_id": 1, "first": "2026-02-01", "last": "2026-01-01"}, "not after"),
    ],
)
def test_what_makes_no_sense_is_refused(asked: dict[str, object], why: str) -> None:
    with pytest.raises(ValueError, match=why):
        ReportRequest.model_validate(asked)
