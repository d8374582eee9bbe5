"""What starts for a machine's people, read and switched by workers with their rights."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path

import pytest

from people import ANNA, BEN, PeopleDesk, give
from phylax.agent.tuning.changer import Change, Changer, Stage
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import WorkerError
from phylax.agent.workers.peoples_settings import PeoplesSettings
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.checks.findings import Checked, Result
from phylax.core.protocol import (
    ChangeSettingsOrder,
    ChangesMessage,
    PutSettingsBackOrder,
    ResultMessage,
    SettingsMessage,
)
from phylax.core.tuning.changes import ChangeMade, Wanted
from phylax.core.tuning.pieces import NOTHING, File, Piece
from phylax.core.tuning.programs import Intent, Program
from startup_trees import add_file, add_link, add_service, entry, picture

WORDS, TIDE = "/opt/words/run", "/opt/tide/run"


@pytest.fixture
def homes(desk: PeopleDesk) -> tuple[Path, Path]:
    """Two people: an entry of their own each, one of the system's for both, a unit of Anna's."""
    system = desk.system
    (system / "etc/systemd/system").mkdir(parents=True)
    for name in ("words", "tide", "chat"):
        add_file(system, f"opt/{name}/run", f"#!/bin/sh\n# {name}\n", 0o755)
    add_file(system, "etc/xdg/autostart/chat.desktop", entry("Chat", "/opt/chat/run"))
    of_session = {"wanted": "default.target", "on": False}
    add_service(system, "glow", where="usr/lib/systemd/user", **of_session)
    anna, ben = desk.home("anna", ANNA), desk.home("ben", BEN)
    add_file(anna, ".config/autostart/words.desktop", entry("Words", WORDS), 0o600)
    add_file(ben, ".config/autostart/words.desktop", entry("Words", WORDS))
    add_service(anna, "tide", where=".config/systemd/user", **of_session)
    add_link(anna, ".config/systemd/user/default.target.wants/tide.service",
             str(anna / ".config/systemd/user/tide.service"))  # fmt: skip
    add_link(anna, ".config/systemd/user/default.target.wants/glow.service",
             "/usr/lib/systemd/user/glow.service")  # fmt: skip
    return give(anna, ANNA), give(ben, BEN)


def looked(desk: PeopleDesk) -> dict[str, Program]:
    desk.worker()
    return {program.key: program for program in desk.crew.tuned.programs()}


def change_all(
    desk: PeopleDesk, key: str, intent: Intent, run_id: int = 7
) -> tuple[ChangeMade, ...]:
    was = looked(desk)[key].now
    wanted = (Wanted(program=key, was=was, intent=intent),)
    desk.carry_out(ChangeSettingsOrder(run_id=run_id, lease="l", wanted=wanted))
    return desk.messages(ChangesMessage)[-1].changes  # type: ignore[no-any-return]


def change(desk: PeopleDesk, key: str, intent: Intent, run_id: int = 7) -> ChangeMade:
    (made,) = change_all(desk, key, intent, run_id)
    return made


def put_back(desk: PeopleDesk, *made: ChangeMade, run_id: int = 8) -> tuple[ChangeMade, ...]:
    changes = tuple(change.id for change in made if change.id)
    desk.carry_out(PutSettingsBackOrder(run_id=run_id, lease="l", changes=changes))
    return desk.messages(ChangesMessage)[-1].changes  # type: ignore[no-any-return]


def test_what_starts_for_people_is_listed_each_for_itself(
    desk: PeopleDesk, homes: tuple[Path, Path]
) -> None:
    programs = looked(desk)
    assert {key for key in programs if "words" in key or "tide" in key} == {
        f"person:anna:{WORDS}", f"person:ben:{WORDS}", "person:anna:/opt/tide/run --quiet",
    }  # fmt: skip
    words = [programs[f"person:{name}:{WORDS}"] for name in ("anna", "ben")]
    assert words[0].digest == words[1].digest != ""
    chat = programs["path:/opt/chat/run"]
    assert {starter.person for starter in chat.starters} == {"anna", "ben"}
    (glow,) = (p for p in programs.values() if "glow" in p.key)
    assert [(s.person, s.on) for s in glow.starters] == [("", False), ("anna", True)]


@pytest.mark.parametrize(
    "key",
    [f"person:anna:{WORDS}", "person:anna:/opt/tide/run --quiet", "path:/opt/chat/run",
     "path:/opt/glow/run --quiet"],
)  # fmt: skip
def test_it_is_switched_with_their_rights_and_goes_back_byte_for_byte(
    desk: PeopleDesk, homes: tuple[Path, Path], key: str
) -> None:
    before = picture(desk.volume)
    made = change_all(desk, key, Intent.ON_DEMAND)
    assert not any(change.refused for change in made)
    assert {change.person for change in made} == ({"anna", "ben"} if "chat" in key else {"anna"})
    assert looked(desk)[key].now is Intent.ON_DEMAND
    for home, uid in zip(homes, (ANNA, BEN), strict=True):
        assert {path.lstat().st_uid for path in home.rglob("*")} == {uid}
    assert not any(told.refused for told in put_back(desk, *made))
    assert picture(desk.volume) == before


def test_a_change_of_one_person_is_not_a_change_of_another(
    desk: PeopleDesk, homes: tuple[Path, Path]
) -> None:
    bens = picture(homes[1])
    change(desk, f"person:anna:{WORDS}", Intent.ON_DEMAND)
    assert picture(homes[1]) == bens
    assert looked(desk)[f"person:ben:{WORDS}"].now is Intent.AT_START


def test_a_folder_of_theirs_that_leads_elsewhere_is_not_followed(
    desk: PeopleDesk, homes: tuple[Path, Path]
) -> None:
    """Ben would have root, or Anna, write where he may not."""
    for target in (homes[0] / ".config/autostart", desk.system / "etc/xdg/autostart"):
        autostart = homes[1] / ".config/autostart"
        if autostart.is_symlink():
            autostart.unlink()
        else:
            autostart.rename(homes[1] / "aside")
        autostart.symlink_to(target)
        before = picture(desk.volume)
        for key in [key for key in looked(desk) if key.startswith("person:ben")]:
            assert change(desk, key, Intent.ON_DEMAND).refused
        annas, bens = sorted(
            change_all(desk, "path:/opt/chat/run", Intent.ON_DEMAND, run_id=9),
            key=lambda c: c.person,
        )
        assert bens.refused and bens.id is None
        assert annas.refused == "", "what is Ben's costs Anna nothing"
        put_back(desk, annas)
        assert picture(desk.volume) == before, target


def test_what_one_person_says_never_makes_a_program_of_anothers_or_the_systems_guarded_or_known(
    desk: PeopleDesk, homes: tuple[Path, Path]
) -> None:
    """Ben names his own as the system's entry, with a stage that would guard it, and a name."""
    text = entry("Not chat", "/opt/chat/run", X_Desk_Phase="Initialization", Comment="Bad")
    give(add_file(homes[1], ".config/autostart/chat.desktop", text), BEN)
    chat = looked(desk)["path:/opt/chat/run"]
    assert (chat.name, chat.guarded, chat.description) == ("Chat", "", "")


def lying(desk: PeopleDesk, monkeypatch: pytest.MonkeyPatch, *messages: object) -> PeoplesSettings:
    """Ben's worker says what he wants."""
    honest = ForkServer.work

    def work(self: ForkServer, person, job, handle, **bounds):  # type: ignore[no-untyped-def]
        if person.uid != BEN:
            return honest(self, person, job, handle, **bounds)
        for message in messages:
            handle(jobs.FROM_WORKER.validate_python(message))
        return jobs.Report()

    monkeypatch.setattr(ForkServer, "work", work)
    desk.worker()
    assert isinstance(desk.crew.tuned, PeoplesSettings)
    return desk.crew.tuned


STARTER = {"key": "sign-in:anna:words.desktop", "kind": "sign-in", "on": False, "person": "anna"}


@pytest.mark.parametrize(
    "message",
    [
        {"kind": "starters", "starters": [{"starter": STARTER}]},
        {"kind": "values", "values": []},
        {"kind": "starters", "starters": [{"starter": STARTER | {"person": ""}}]},
    ],
)
def test_a_worker_that_speaks_of_somebody_else_costs_only_its_own_part(
    desk: PeopleDesk, homes: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch,
    message: dict[str, object],
) -> None:  # fmt: skip
    programs = {p.key: p for p in lying(desk, monkeypatch, message).programs()}
    assert programs[f"person:anna:{WORDS}"].now is Intent.AT_START
    assert "the worker of ben" in programs["person:ben:"].unread
    assert f"person:ben:{WORDS}" not in programs


def test_a_digest_that_somebody_made_up_is_of_nobody_elses_program(
    desk: PeopleDesk, homes: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    starter = STARTER | {"person": "ben", "key": "sign-in:ben:words.desktop"}
    forged = {"starter": starter, "command": WORDS, "runs": WORDS, "digest": "0" * 64}
    message = {"kind": "starters", "starters": [forged]}
    programs = {p.key: p for p in lying(desk, monkeypatch, message).programs()}
    assert programs[f"person:ben:{WORDS}"].digest == "0" * 64
    assert programs[f"person:anna:{WORDS}"].digest not in ("", "0" * 64)


@pytest.mark.parametrize("of", ["", "anna", "root"])
def test_pieces_that_are_not_theirs_are_not_taken(
    desk: PeopleDesk, homes: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch, of: str
) -> None:
    key = f"person:ben:{WORDS}"
    program = looked(desk)[key]
    piece = {"path": "etc/passwd", "of": of, "before": {"kind": "nothing"},
             "after": {"kind": "file", "content": ""}}  # fmt: skip
    tuned = lying(desk, monkeypatch, {"kind": "pieces", "pieces": [piece]})
    with pytest.raises(OSError, match="not theirs"):
        tuned.switched(program, program.plan(Intent.ON_DEMAND))


def test_a_change_that_would_fill_the_agents_disk_is_not_taken(
    desk: PeopleDesk, homes: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Ben's worker says that very much is altered, message after message."""
    key = f"person:ben:{WORDS}"
    program = looked(desk)[key]
    content = File.of(b"x" * 200_000).model_dump()
    piece = {"path": "a", "of": "ben", "before": {"kind": "nothing"}, "after": content}
    many = {"kind": "pieces", "pieces": [piece] * 3}
    tuned = lying(desk, monkeypatch, *[many] * 10)
    with pytest.raises(OSError, match="more than anybody has to"):
        tuned.switched(program, program.plan(Intent.ON_DEMAND))
    state = {"kind": "state", "state": {"kind": "nothing"}}
    tuned = lying(desk, monkeypatch, state, state)
    with pytest.raises(OSError, match="more than it was asked"):
        tuned.hands().read(Piece(path="a", of="ben", before=NOTHING, after=NOTHING))


def test_what_is_of_somebody_who_has_gone_is_left_and_the_rest_goes_back(
    desk: PeopleDesk, homes: tuple[Path, Path]
) -> None:
    before = picture(homes[0])
    made = change_all(desk, "path:/opt/chat/run", Intent.ON_DEMAND)
    gone = desk.volume / "gone"
    homes[1].rename(gone)
    told = {change.person: change for change in put_back(desk, *made)}
    assert "nobody here has the rights of" in told["ben"].refused
    assert (told["anna"].refused, picture(homes[0])) == ("", before)
    result = desk.messages(ResultMessage)[-1]
    assert (result.error, result.changed, result.refused) == ("", 1, 1)


def test_what_one_person_switches_on_again_is_nobody_elses_drift_and_keeps_nothing_from_going_back(
    desk: PeopleDesk, homes: tuple[Path, Path]
) -> None:
    before = picture(homes[0])
    made = change_all(desk, "path:/opt/chat/run", Intent.ON_DEMAND)
    (homes[1] / ".config/autostart/chat.desktop").unlink()
    desk.carry_out(PutSettingsBackOrder(run_id=9, lease="l", changes=()))
    drifted = desk.messages(SettingsMessage)[-1].look.drifted
    assert [drift.id for drift in drifted] == [
        change.id for change in made if change.person == "ben"
    ]
    told = {change.person: change for change in put_back(desk, *made)}
    assert (told["anna"].refused, picture(homes[0])) == ("", before)


def silent_for_ben(patch: pytest.MonkeyPatch) -> None:
    honest = ForkServer.work

    def silent(self: ForkServer, person, job, handle, **bounds):  # type: ignore[no-untyped-def]
        if person.uid == BEN:
            raise WorkerError("it fell silent")
        return honest(self, person, job, handle, **bounds)

    patch.setattr(ForkServer, "work", silent)


def test_a_worker_that_does_not_answer_stops_no_recovery_and_no_start(
    desk: PeopleDesk, homes: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Cut off in the middle, and then Ben ends every worker of his."""
    made = change_all(desk, "path:/opt/chat/run", Intent.ON_DEMAND)
    changer = Changer(desk.crew.tuned.hands(), desk.own / "changes")
    for change in list(changer.changes()):
        changer.note(change, stage=Stage.BEGUN)

    def stages() -> dict[str, Stage]:
        return {change.of: change.stage for change in changer.changes()}

    with monkeypatch.context() as patch:
        silent_for_ben(patch)
        desk.worker().recover_settings()
        assert stages() == {"anna": Stage.UNDONE, "ben": Stage.BEGUN}
        assert not (homes[0] / ".config/autostart/chat.desktop").exists(), "Anna's is undone"
        words = change_all(desk, f"person:anna:{WORDS}", Intent.ON_DEMAND, run_id=10)
        assert not any(change.refused for change in words), "other orders go on"
    desk.worker().recover_settings()
    assert stages()["ben"] is Stage.UNDONE
    assert not (homes[1] / ".config/autostart/chat.desktop").exists()
    assert len(made) == 2


def test_a_run_that_was_cut_off_goes_on_with_what_is_left(
    desk: PeopleDesk, homes: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    with monkeypatch.context() as patch:
        patch.setattr(Changer, "make", stops_for_ben(Changer.make))
        with pytest.raises(KeyboardInterrupt):
            change_all(desk, "path:/opt/chat/run", Intent.ON_DEMAND)
    wanted = Wanted(program="path:/opt/chat/run", was=Intent.AT_START, intent=Intent.ON_DEMAND)
    desk.carry_out(ChangeSettingsOrder(run_id=7, lease="l", wanted=(wanted,)))
    made = desk.messages(ChangesMessage)[-1].changes
    assert [(change.person, change.refused) for change in made] == [("anna", ""), ("ben", "")]
    assert len([*Changer(desk.crew.tuned.hands(), desk.own / "changes").changes()]) == 2


def stops_for_ben(make: Callable[..., Change]) -> Callable[..., Change]:
    def stopping(self: Changer, change: Change) -> Change:
        if change.of == "ben":
            raise KeyboardInterrupt
        return make(self, change)

    return stopping


def odd_fifo(folder: Path) -> None:
    os.mkfifo(folder / "a.desktop")


def odd_huge(folder: Path) -> None:
    with open(folder / "a.desktop", "wb") as file:
        file.truncate(2**30)


def odd_many(folder: Path) -> None:
    for number in range(3000):
        (folder / f"{number}.desktop").write_text(entry(f"N{number}", f"/opt/{number}"))


def odd_unit(folder: Path) -> None:
    units = folder.parent / "systemd/user"
    units.mkdir(parents=True)
    os.mkfifo(units / "pipe.service")
    (units / "loop.service").symlink_to("loop.service")
    (units / "self.service.d").symlink_to(units)
    long = f"[Service]\nExecStart=/{'x' * 90_000}\n[Install]\nWantedBy=a.target\n"
    (units / "long.service").write_text(long)


def odd_controls(folder: Path) -> None:
    (folder / "a\x1b[2J.desktop").write_text(entry("A\x07B", "/opt/\x1b[31mx"))
    (folder / os.fsdecode(b"\xff\xfe.desktop")).write_text(entry("Bytes", "/opt/bytes"))


@pytest.mark.parametrize("odd", [odd_fifo, odd_huge, odd_many, odd_unit, odd_controls])
def test_odd_folders_of_one_person_cost_only_themselves(
    desk: PeopleDesk, homes: tuple[Path, Path], odd: Callable[[Path], None]
) -> None:
    odd(homes[1] / ".config/autostart")
    give(homes[1], BEN)
    programs = looked(desk)
    assert programs[f"person:anna:{WORDS}"].now is Intent.AT_START
    mine = [p for key, p in programs.items() if key.startswith("person:ben")]
    assert mine and len(mine) <= 200 and not any(p.unread for p in mine)
    assert all(char.isprintable() for p in mine for char in p.name + p.key + p.path)
    made = change(desk, f"person:anna:{WORDS}", Intent.ON_DEMAND)
    assert made.refused == ""
    assert desk.messages(SettingsMessage)[-1].look.unread == ""


def checked(settings: PeoplesSettings) -> dict[str, Checked]:
    return {said.target: said for said in settings.browsers(lambda done=0, of=None: None)}


def test_each_persons_browsers_are_read_with_their_own_rights(
    desk: PeopleDesk, homes: tuple[Path, Path]
) -> None:
    """Ben's profile leads to Anna's, which only she may read."""
    said = {"extensions": {"settings": {"a": {"manifest": {"name": "Reader"}}}}}
    profile = homes[0] / ".config/chromium/Default"
    add_file(homes[0], ".config/chromium/Default/Preferences", json.dumps(said), 0o600)
    give(homes[0], ANNA)
    add_link(homes[1], ".config/chromium/Default/Preferences", str(profile / "Preferences"))
    give(homes[1], BEN)
    desk.worker()
    found = {came.target: came for came in desk.crew.check("browsers", "", lambda *_: None)
             if isinstance(came, Checked)}  # fmt: skip
    assert "Reader was added to the browser" in found["anna"].findings[0].what
    assert found["ben"].findings == () and found["ben"].result is Result.CLEAN


FOUND = {"severity": "note", "what": "Searches with Tide"}


@pytest.mark.parametrize(
    "messages",
    [
        [{"kind": "values", "values": []}],
        [{"kind": "findings", "findings": [FOUND | {"severity": "failing"}]}],
        [{"kind": "findings", "findings": [FOUND] * 500}] * 2,
    ],
)
def test_a_worker_that_finds_what_no_browser_has_costs_only_its_own_part(
    desk: PeopleDesk, homes: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch,
    messages: list[dict[str, object]],
) -> None:  # fmt: skip
    said = checked(lying(desk, monkeypatch, *messages))
    assert said["anna"].result is Result.CLEAN
    assert said["ben"].result is Result.COULD_NOT_LOOK and said["ben"].findings == ()
