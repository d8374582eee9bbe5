"""What cannot be sent is kept, what was cut off knows how far it came, on a full disk as well."""

import os
from datetime import UTC, datetime
from pathlib import Path

import pytest

from helpers import make_file
from phylax.agent.account.run_journal import RunJournal
from phylax.agent.outbox.spool import Spool
from phylax.agent.survey.places import Place
from phylax.agent.workers.jobs import About
from phylax.core.ground.readings import ReadingIn
from phylax.core.protocol import CleanOrder, ReadingsMessage

ORDER = CleanOrder(run_id=5, lease="lease", rules=(), clean=("user-temp",), survey_first=False)


def message(number: int, readings: int = 1) -> ReadingsMessage:
    reading = ReadingIn(mount="/", capacity=9, free=1, at=datetime(2026, 3, 2, tzinfo=UTC))
    return ReadingsMessage(id=f"message-{number:04d}", readings=(reading,) * readings)


def test_messages_wait_in_order_over_a_restart(tmp_path: Path) -> None:
    spool = Spool(tmp_path)
    for number in range(3):
        spool.put(message(number))
    path, first, _ = next(iter(spool.waiting()))
    spool.taken(path)
    again = Spool(tmp_path)
    again.put(message(3))
    assert first.id == "message-0000"
    assert [m.id for _, m, _ in again.waiting()] == [f"message-{n:04d}" for n in (1, 2, 3)]


def test_a_message_cut_off_while_it_was_written_is_not_half_sent(tmp_path: Path) -> None:
    (tmp_path / "000000000001.part").write_text('{"kind": "read')
    assert list(Spool(tmp_path).waiting()) == []


def test_a_result_is_kept_on_a_volume_without_a_byte_left(volume: Path) -> None:
    spool = Spool(volume / "spool")
    handle = os.open(volume / "ballast", os.O_WRONLY | os.O_CREAT)
    for size in (2**20, 2**12, 2**10):
        with pytest.raises(OSError, match="No space"):
            while os.write(handle, b"x" * size) == size:
                pass
            raise OSError("No space for the rest")
    os.close(handle)
    assert os.statvfs(volume).f_bavail == 0
    spool.put(message(1, readings=200))
    (volume / "ballast").unlink()
    ((path, kept, _),) = spool.waiting()
    assert len(kept.readings) == 200
    spool.taken(path)
    assert (volume / "spool/reserve").stat().st_size > 0


def journal_of(tmp_path: Path) -> tuple[RunJournal, Place]:
    root = str(tmp_path / "place")
    os.makedirs(root, exist_ok=True)
    place = Place(root, (), root, "/", os.stat(root).st_dev, "", frozenset())
    return RunJournal.begin(tmp_path / "5.jsonl", ORDER, "2026-03-02T09:00:00Z", []), place


def test_a_journal_cut_off_in_a_batch_counts_what_is_really_gone(tmp_path: Path) -> None:
    journal, place = journal_of(tmp_path)
    journal.about_to("user-temp", place, "", [("first", 10)])
    journal.removed("user-temp", 10)
    journal.batch_done()
    make_file(tmp_path / "place/still-there")
    journal.about_to("user-temp", place, "", [("gone", 200), ("still-there", 3000)])
    journal.close()  # cut off here: nothing says what became of the second batch
    taken_up = RunJournal.reopen(tmp_path / "5.jsonl")
    assert taken_up.removed_of("user-temp").size == 210
    assert taken_up.resumed == 1
    taken_up.close()
    # and again: what was found out is not counted twice
    third = RunJournal.reopen(tmp_path / "5.jsonl")
    assert (third.removed_of("user-temp").count, third.resumed) == (2, 2)
    third.close()


def test_a_line_cut_off_in_the_middle_spoils_nothing(tmp_path: Path) -> None:
    journal, place = journal_of(tmp_path)
    journal.about_to("user-temp", place, "", [("a", 7)])
    journal.removed("user-temp", 7)
    journal.batch_done()
    journal.close()
    with (tmp_path / "5.jsonl").open("a") as file:
        file.write('{"about": {"categ')
    for _ in range(2):
        reopened = RunJournal.reopen(tmp_path / "5.jsonl")
        assert reopened.removed_of("user-temp").size == 7
        reopened.close()
    assert RunJournal.order_in(tmp_path / "5.jsonl") == ORDER


def test_a_journal_that_never_began_holds_no_order(tmp_path: Path) -> None:
    (tmp_path / "5.jsonl").write_text('{"begun": {"ord')
    assert RunJournal.order_in(tmp_path / "5.jsonl") is None


def test_names_with_any_line_separator_do_not_break_what_a_worker_announced(tmp_path: Path) -> None:
    journal, _ = journal_of(tmp_path)
    names = tuple((f"a{sign}b", None) for sign in "\u2028\u2029\x85\x0b\x0c\x1c\r\n")
    about = About(category="user-temp", root="/x", folders=("y\u2028",), names=names)
    journal.about_claimed(3001, about.model_dump_json(exclude={"kind"}))
    journal.close()
    asked: list[dict] = []

    def gone_in(said: dict) -> list[int]:
        asked.append(said)
        return list(range(len(said["names"])))

    reopened = RunJournal.reopen(tmp_path / "5.jsonl", None, gone_in)
    assert [tuple(name) for name in asked[0]["names"]] == list(names)
    assert asked[0]["uid"] == 3001
    assert reopened.removed_of("user-temp").count == len(names) and reopened.uncertain
    reopened.close()
