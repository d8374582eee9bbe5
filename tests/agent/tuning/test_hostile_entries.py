"""What a person or a machine could write to be taken for something else, or to stop a survey."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from phylax.agent.machines.linux.startup.of_person import starters_of
from phylax.agent.machines.linux.startup.programs import programs
from phylax.core.tuning.programs import Program, Starter, StarterKind
from startup_trees import add_file, add_link, add_service, entry, picture

STATUS = """Package: {name}
Status: install ok installed
Priority: optional
{more}Description: {name} of the system
"""


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "root"
    for name in ("chat", "python3"):
        add_file(root, f"usr/bin/{name}", f"#!/bin/sh\n# {name}\n", 0o755)
    add_file(root, "etc/xdg/autostart/chat.desktop", entry("Chat", "/usr/bin/chat"))
    add_file(root, "var/lib/dpkg/status", "\n".join(
        STATUS.format(name=name, more="") for name in ("chat", "python3")
    ))  # fmt: skip
    files = "/etc/xdg/autostart/chat.desktop\n/usr/bin/chat\n"
    add_file(root, "var/lib/dpkg/info/chat.list", files)
    add_file(root, "var/lib/dpkg/info/python3.list", "/usr/bin/python3\n")
    (root / "home/anna/.config/autostart").mkdir(parents=True)
    return root


def looked(root: Path) -> dict[str, Program]:
    people = starters_of("anna", str(root / "home/anna"), str(root))
    return {program.key: program for program in programs(str(root), people)}


def own(root: Path, name: str, text: str) -> Path:
    return add_file(root, f"home/anna/.config/autostart/{name}", text)


def test_an_entry_of_a_package_is_the_packages_also_when_a_person_switched_it_off(
    root: Path,
) -> None:
    assert set(looked(root)) == {"package:chat"}
    own(root, "chat.desktop", entry("Chat", "/usr/bin/chat", Hidden="true"))
    (program,) = looked(root).values()
    assert (program.package, program.starters[0].on) == ("chat", False)


def test_who_takes_the_name_of_a_packages_entry_is_not_taken_for_the_package(root: Path) -> None:
    own(root, "chat.desktop", entry("Chat", "/usr/bin/python3 /home/anna/other.py"))
    (program,) = looked(root).values()
    assert program.key == "person:anna:/usr/bin/python3 /home/anna/other.py"
    assert (program.package, program.signed_by) == ("", "")


def test_one_interpreter_is_as_many_programs_as_it_is_told_to_be(root: Path) -> None:
    (root / "etc/xdg/autostart/chat.desktop").unlink()
    for name in ("a", "b"):
        own(root, f"{name}.desktop", entry(name, f"/usr/bin/python3 /home/anna/{name}.py"))
    found = looked(root)
    assert len(found) == 2
    assert len({program.digest for program in found.values()}) == 2
    assert not any(program.package for program in found.values())


def test_a_file_that_changed_has_another_digest(root: Path) -> None:
    own(root, "x.desktop", entry("X", "/home/anna/x"))
    file = add_file(root, "home/anna/x", "one", 0o755)
    before = looked(root)["person:anna:/home/anna/x"].digest
    file.write_text("two")
    assert looked(root)["person:anna:/home/anna/x"].digest not in ("", before)


def test_odd_entries_cost_only_themselves_and_nothing_waits(root: Path, tmp_path: Path) -> None:
    folder = root / "home/anna/.config/autostart"
    os.mkfifo(folder / "pipe.desktop")
    os.mkfifo(root / "home/anna/fifo")
    (folder / "folder.desktop").mkdir()
    add_link(root, "home/anna/.config/autostart/loop.desktop", "loop.desktop")
    add_link(root, "home/anna/.config/autostart/nowhere.desktop", "/nowhere")
    own(root, "huge.desktop", "[Desktop Entry]\n" + "X=1\n" * 60_000)
    odd = b"[Desktop Entry]\nType=Application\nExec=\xff\xfe\x00\n"
    (folder / "bytes.desktop").write_bytes(odd)
    own(root, "runs-a-pipe.desktop", entry("Pipe", "/home/anna/fifo"))
    own(root, "control.desktop", entry("\x1b[2Jgone\x07", "/usr/bin/chat \x1b[31m"))
    own(root, "empty.desktop", "")
    before = picture(root)
    found = looked(root)
    assert picture(root) == before, "nothing was touched"
    assert found["package:chat"].starters
    assert found["person:anna:/home/anna/fifo"].digest == ""
    text = "".join(
        f"{p.key}{p.name}{p.description}{[s.key for s in p.starters]}" for p in found.values()
    )
    assert text.isprintable()


def test_thousands_of_entries_are_bounded(root: Path) -> None:
    for number in range(1500):
        own(root, f"e{number:04d}.desktop", entry(f"E{number}", f"/home/anna/e{number}"))
    assert len(looked(root)) <= 1001


def test_what_essential_packages_need_is_guarded(root: Path) -> None:
    add_service(root, "helper")
    add_file(root, "var/lib/dpkg/status", "\n".join([
        STATUS.format(name="base", more="Essential: yes\nDepends: library, helper (>= 2) | x\n"),
        STATUS.format(name="helper", more=""),
    ]))  # fmt: skip
    add_file(root, "var/lib/dpkg/info/helper.list", "/usr/lib/systemd/system/helper.service\n")
    guarded = looked(root)["package:helper"].guarded
    assert guarded == "base, which the system counts as essential, needs it"


@pytest.mark.parametrize(
    ("unit", "service", "install", "wanted", "why"),
    [
        ("DefaultDependencies=no", "", "", "multi-user.target", "before the system is up"),
        ("Before=network.target", "", "", "multi-user.target", "network may hang on it"),
        ("", "BusName=org.freedesktop.Odd1", "", "multi-user.target", "org.freedesktop.Odd1"),
        ("", "", "Alias=display-manager.service", "multi-user.target", "the screen"),
        ("", "", "", "sound.target", "sound may hang on it"),
        ("", "", "", "dev-x.device", "it serves a device"),
        ("", "", "", "sysinit.target", "sysinit.target starts it"),
        ("", "", "", "multi-user.target", ""),
    ],
)
def test_units_are_guarded_by_what_they_say(
    root: Path, unit: str, service: str, install: str, wanted: str, why: str
) -> None:
    add_service(root, "odd", unit=unit, service=service, install=install, wanted=wanted)
    guarded = looked(root)["path:/opt/odd/run --quiet"].guarded
    assert why in guarded and bool(guarded) == bool(why)


def test_what_something_guarded_needs_is_guarded_too(root: Path) -> None:
    add_service(root, "base", on=False)
    add_service(root, "top", unit="Before=network.target\nRequires=base.service")
    assert looked(root)["path:/opt/base/run --quiet"].guarded == "run, which is guarded, needs it"
    assert looked(root)["path:/opt/base/run --quiet"].needed_by == ("run",)


def test_a_name_that_moves_a_cursor_is_shown_plain() -> None:
    starter = Starter(key="a\x1b[2J", kind=StarterKind.TIMER, on=True, person="anna\n", when="x\r")
    program = Program(key="k\x00", name="\x1b]0;title\x07", starters=(starter,))
    shown = f"{program.key}{program.name}{starter.key}{starter.person}{starter.when}"
    assert shown.isprintable()
