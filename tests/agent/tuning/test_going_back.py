"""Whatever was changed goes back, byte for byte, from anywhere in the middle."""

from __future__ import annotations

import json
import os
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from phylax.agent.machines.linux.startup.of_person import starters_of
from phylax.agent.machines.linux.startup.programs import programs
from phylax.agent.machines.linux.startup.switching import pieces_of_person, pieces_of_units
from phylax.agent.tuning import pieces as pieces_module
from phylax.agent.tuning.changer import AlteredError, Change, Changer, NotMadeError, Stage
from phylax.agent.tuning.pieces import OddPieceError, read, write
from phylax.agent.tuning.setting_backend import LocalSettingBackend
from phylax.core.tuning.pieces import NOTHING, File, Folder, Link, Piece
from phylax.core.tuning.programs import Intent, Program
from startup_trees import add_file, add_link, add_service, entry, lay, picture, units

AT = datetime(2026, 3, 2, 9, tzinfo=UTC)


def change_of(pieces: tuple[Piece, ...], number: int = 1) -> Change:
    return Change(
        id=f"change-{number}", setting="startup-programs", before="at start",
        after="on demand", at=AT + timedelta(seconds=number), pieces=pieces,
    )  # fmt: skip


def by_key(root: Path) -> dict[str, Program]:
    return {program.key: program for program in programs(str(root), [])}


@settings(deadline=None, max_examples=60)
@given(units(), st.lists(st.tuples(st.integers(0, 5), st.sampled_from(Intent)), max_size=5))
def test_any_sequence_of_intents_goes_back_to_the_very_tree(
    laid: list[tuple[str, str, bool]], wishes: list[tuple[int, Intent]]
) -> None:
    with tempfile.TemporaryDirectory() as name:
        root = Path(name, "root")
        root.mkdir()
        lay(root, laid)
        before = picture(root)
        changer = Changer(LocalSettingBackend(str(root)), Path(name, "journal"))
        made = []
        for number, (which, intent) in enumerate(wishes):
            found = by_key(root)
            program = found[sorted(found)[which % len(found)]]
            plan = program.plan(intent)
            if any(switch.is_by_hand for switch in plan):
                continue
            pieces = pieces_of_units(str(root), plan)
            made.append(changer.make(change_of(pieces, number)))
            after = by_key(root)[program.key]
            assert after.now is intent or not plan, (program, plan, after)
        for change in reversed(made):
            assert changer.put_back(change.id).stage is Stage.PUT_BACK
        assert picture(root) == before


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "root"
    add_service(root, "cloud", install="Alias=cloud-too.service")
    add_link(root, "etc/systemd/system/cloud-too.service", "/usr/lib/systemd/system/cloud.service")
    timer = "[Timer]\nOnCalendar=daily\n[Install]\nWantedBy=timers.target\n"
    add_file(root, "usr/lib/systemd/system/cloud.timer", timer)
    return root


def test_a_change_cut_off_anywhere_is_undone_at_the_next_start(
    root: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The machine stops before, between and after each step."""

    class PowerLost(BaseException):
        pass

    before = picture(root)
    plan = by_key(root)["path:/opt/cloud/run --quiet"].plan(Intent.OFF)
    pieces = pieces_of_units(str(root), plan)
    assert len(pieces) == 3, "two links go, one bars it"
    for stop_at in range(len(pieces)):
        for half in (False, True):
            journal = tmp_path / f"journal-{stop_at}-{half}"
            steps = iter(range(100))

            def failing(top: str, path: str, state: object, steps=steps, stop=stop_at, half=half):  # type: ignore[no-untyped-def]
                if next(steps) == stop:
                    if half:
                        write(top, path, state)  # type: ignore[arg-type]
                        Path(top, path).parent.joinpath(".phylax-new-0a1b").symlink_to("x")
                    raise PowerLost
                write(top, path, state)  # type: ignore[arg-type]

            with monkeypatch.context() as patch:
                patch.setattr(pieces_module, "write", failing)
                with pytest.raises(PowerLost):
                    Changer(LocalSettingBackend(str(root)), journal).make(change_of(pieces))
            again = Changer(LocalSettingBackend(str(root)), journal)
            assert [change.stage for change in again.recover()] == [Stage.UNDONE]
            assert picture(root) == before
            assert again.recover() == [], "once is enough"


def test_a_change_that_fails_half_way_leaves_everything_as_it_was(
    root: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = picture(root)
    pieces = pieces_of_units(
        str(root), by_key(root)["path:/opt/cloud/run --quiet"].plan(Intent.OFF)
    )
    calls = []

    def full(top: str, path: str, state: object) -> None:
        calls.append(path)
        if len(calls) == 2:
            raise OSError(28, "No space left on device", path)
        write(top, path, state)  # type: ignore[arg-type]

    monkeypatch.setattr(pieces_module, "write", full)
    changer = Changer(LocalSettingBackend(str(root)), tmp_path / "journal")
    with pytest.raises(NotMadeError, match="No space left"):
        changer.make(change_of(pieces))
    assert picture(root) == before
    assert [change.stage for change in changer.changes()] == [Stage.UNDONE]


def test_what_the_system_accepts_and_forgets_is_no_change(
    root: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(pieces_module, "write", lambda top, path, state: None)
    pieces = (Piece(path="etc/x", before=NOTHING, after=Link(target="/y")),)
    with pytest.raises(NotMadeError, match="did not become so: etc/x"):
        Changer(LocalSettingBackend(str(root)), tmp_path / "journal").make(change_of(pieces))


def test_what_somebody_altered_since_is_not_put_back_and_is_named(
    root: Path, tmp_path: Path
) -> None:
    changer = Changer(LocalSettingBackend(str(root)), tmp_path / "journal")
    plan = by_key(root)["path:/opt/cloud/run --quiet"].plan(Intent.OFF)
    changer.make(change_of(pieces_of_units(str(root), plan)))
    assert changer.drifted() == []
    bar = root / "etc/systemd/system/cloud.service"
    bar.unlink()
    add_file(root, "etc/systemd/system/cloud.service", "[Service]\nExecStart=/opt/other\n")
    now = picture(root)
    ((change, paths),) = changer.drifted()
    assert (change.id, paths) == ("change-1", ["etc/systemd/system/cloud.service"])
    with pytest.raises(AlteredError, match=r"etc/systemd/system/cloud\.service"):
        changer.put_back("change-1")
    assert picture(root) == now, "nothing at all was touched"


def test_a_tree_that_changed_since_the_look_is_not_changed(root: Path, tmp_path: Path) -> None:
    plan = by_key(root)["path:/opt/cloud/run --quiet"].plan(Intent.OFF)
    pieces = pieces_of_units(str(root), plan)
    (root / "etc/systemd/system/cloud-too.service").unlink()
    now = picture(root)
    with pytest.raises(NotMadeError, match="changed since it was looked at"):
        Changer(LocalSettingBackend(str(root)), tmp_path / "journal").make(change_of(pieces))
    assert picture(root) == now


def test_an_older_change_does_not_drift_because_of_a_newer_one(root: Path, tmp_path: Path) -> None:
    changer = Changer(LocalSettingBackend(str(root)), tmp_path / "journal")
    for number, intent in enumerate((Intent.ON_DEMAND, Intent.OFF, Intent.AT_START)):
        plan = by_key(root)["path:/opt/cloud/run --quiet"].plan(intent)
        changer.make(change_of(pieces_of_units(str(root), plan), number))
    assert changer.drifted() == []


def test_one_bad_file_of_the_journal_costs_only_itself(root: Path, tmp_path: Path) -> None:
    changer = Changer(LocalSettingBackend(str(root)), tmp_path / "journal")
    plan = by_key(root)["path:/opt/cloud/run --quiet"].plan(Intent.ON_DEMAND)
    before = picture(root)
    changer.make(change_of(pieces_of_units(str(root), plan)))
    add_file(tmp_path, "journal/00000000T000000-odd.json", '{"half": ')
    assert changer.put_back("change-1").stage is Stage.PUT_BACK
    assert picture(root) == before
    assert changer.put_back("change-1").stage is Stage.PUT_BACK, "twice is once"
    with pytest.raises(KeyError):
        changer.put_back("never")


def test_a_journal_of_an_earlier_version_goes_back(root: Path, tmp_path: Path) -> None:
    """It knew of no people and no ports: every name lay below the machine's root."""
    entry_of = root / "home/anna/.config/autostart/chat.desktop"
    entry_of.parent.mkdir(parents=True)
    entry_of.write_text("hidden")
    after = File.of(b"hidden", 0o644).model_dump()
    piece = {"path": str(entry_of.relative_to(root)), "before": {"kind": "nothing"}, "after": after}
    change = {
        "id": "7-0a1b2c3d", "setting": "startup-programs", "before": "at start",
        "after": "on demand", "at": AT.isoformat(), "pieces": [piece], "stage": "made",
    }  # fmt: skip
    add_file(tmp_path, "journal/20260302T090000-7-0a1b2c3d.json", json.dumps(change))
    changer = Changer(LocalSettingBackend(str(root)), tmp_path / "journal")
    assert changer.put_back("7-0a1b2c3d").stage is Stage.PUT_BACK
    assert not entry_of.exists()


# --- links, pipes and other traps --------------------------------------------------------------


def test_a_link_on_the_way_leads_nowhere(tmp_path: Path) -> None:
    (tmp_path / "outside").mkdir()
    add_link(tmp_path, "top/etc", str(tmp_path / "outside"))
    with pytest.raises(OSError, match=r"Not a directory|Too many levels"):
        write(str(tmp_path / "top"), "etc/x", Link(target="/y"))
    for path in ("../outside/x", "/outside/x", "a/../../outside/x", ""):
        with pytest.raises(OddPieceError):
            write(str(tmp_path / "top"), path, Link(target="/y"))
    assert [*(tmp_path / "outside").iterdir()] == []


def test_a_link_in_place_of_a_file_is_replaced_and_not_followed(tmp_path: Path) -> None:
    outside = add_file(tmp_path, "outside", "keep me")
    add_link(tmp_path, "top/x", str(outside))
    assert read(str(tmp_path / "top"), "x") == Link(target=str(outside))
    write(str(tmp_path / "top"), "x", File.of(b"new"))
    assert outside.read_text() == "keep me"
    assert (tmp_path / "top/x").read_bytes() == b"new"


def test_a_pipe_is_never_waited_for(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "x")
    with pytest.raises(OddPieceError):
        read(str(tmp_path), "x")
    pieces = (Piece(path="x", before=NOTHING, after=Folder()),)
    with pytest.raises(NotMadeError):
        Changer(LocalSettingBackend(str(tmp_path)), tmp_path / "journal").make(change_of(pieces))


def test_a_folder_that_somebody_used_meanwhile_stays(tmp_path: Path) -> None:
    changer = Changer(LocalSettingBackend(str(tmp_path / "home")), tmp_path / "journal")
    add_file(tmp_path, "home/keep", "")
    pieces = (
        Piece(path="new", before=NOTHING, after=Folder()),
        Piece(path="new/ours", before=NOTHING, after=File.of(b"1")),
    )
    changer.make(change_of(pieces))
    add_file(tmp_path, "home/new/theirs", "2")
    changer.put_back("change-1")
    assert sorted(p.name for p in (tmp_path / "home/new").iterdir()) == ["theirs"]


# --- a person's entries -----------------------------------------------------------------------


def test_an_entry_of_the_system_is_hidden_for_one_person_and_is_back(tmp_path: Path) -> None:
    root, home = tmp_path / "root", tmp_path / "root/home/anna"
    home.mkdir(parents=True)
    add_file(root, "etc/xdg/autostart/chat.desktop", entry("Chat", X_Odd="ä"))
    add_file(root, "bin/true", "", 0o755)
    add_file(home, ".config/autostart/own.desktop", "# mine\n" + entry("Own"), 0o600)
    before = picture(root)
    changer = Changer(LocalSettingBackend(str(root), {"anna": str(home)}), tmp_path / "journal")

    def looked() -> list[Program]:
        return programs(str(root), starters_of("anna", str(home), str(root)))

    for number in range(2):
        found = looked()
        assert {s.key for p in found for s in p.starters if s.on} == {
            "sign-in:anna:chat.desktop", "sign-in:anna:own.desktop",
        }  # fmt: skip
        plan = [switch for program in found for switch in program.plan(Intent.ON_DEMAND)]
        pieces = pieces_of_person(str(home), plan, "anna", str(root))
        changer.make(change_of(pieces, number))
        off = looked()
        assert all(program.now is Intent.ON_DEMAND for program in off)
        assert (root / "etc/xdg/autostart/chat.desktop").read_text() == entry("Chat", X_Odd="ä")
        assert "X-Odd=ä" in (home / ".config/autostart/chat.desktop").read_text()
        assert (home / ".config/autostart/own.desktop").stat().st_mode & 0o777 == 0o600
        changer.put_back(f"change-{number}")
        assert picture(root) == before
