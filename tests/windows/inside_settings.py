"""What the Windows Python itself checks of settings: `python -m windows.inside_settings NAME`."""

from __future__ import annotations

import ctypes
import os
import shutil
import struct
import sys
import uuid
import winreg
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from phylax.agent.machines.windows import WindowsMachine, keys, registry
from phylax.agent.machines.windows.startup import marks, services
from phylax.agent.runtime.settings_run import SettingsRun
from phylax.core.ground.values import Scalar
from phylax.core.protocol import ChangeSettingsOrder, PutSettingsBackOrder
from phylax.core.tuning.changes import ChangeMade, ChangeState, Wanted, WantedValue
from phylax.core.tuning.pieces import NOTHING, Folder, StoredText
from phylax.core.tuning.programs import Intent, Program

RUN = r"Software\Microsoft\Windows\CurrentVersion\Run"
PROGRAMS = "C:\\scratch"


def main() -> None:
    checks: dict[str, Callable[[], None]] = {
        name: check for name, check in globals().items() if callable(check)
    }
    checks[sys.argv[1]]()


def program(name: str) -> str:
    """A program of somebody's, as a file."""
    os.makedirs(PROGRAMS, exist_ok=True)
    path = f"{PROGRAMS}\\{name}.exe"
    shutil.copy(sys.executable, path)
    return path


def person() -> registry.Person:
    (only,) = registry.people()
    return only


@contextmanager
def entry(root: int, key: str, name: str, command: str, view: int = 0) -> Iterator[None]:
    with winreg.CreateKeyEx(root, key, 0, winreg.KEY_WRITE | view) as opened:
        winreg.SetValueEx(opened, name, 0, winreg.REG_SZ, command)
    try:
        yield
    finally:
        with winreg.OpenKey(root, key, 0, winreg.KEY_WRITE | view) as opened:
            winreg.DeleteValue(opened, name)


def tree(root: int, path: str, view: int = 0) -> dict[str, object]:
    """Everything below a key: names, types and values."""
    found: dict[str, object] = {}
    try:
        opened = winreg.OpenKey(root, path, 0, winreg.KEY_READ | view)
    except FileNotFoundError:
        return found
    with opened:
        below, values, _ = winreg.QueryInfoKey(opened)
        found[path] = "key"
        for n in range(values):
            name, value, kind = winreg.EnumValue(opened, n)
            found[f"{path}\\\\{name}"] = (kind, value)
        names = [winreg.EnumKey(opened, n) for n in range(below)]
    for name in names:
        found |= tree(root, f"{path}\\{name}", view)
    return found


def everything() -> dict[str, object]:
    """What could be set, of the machine and of the person."""
    sid = person().sid
    found = tree(winreg.HKEY_LOCAL_MACHINE, marks.MARKS)
    found |= tree(winreg.HKEY_LOCAL_MACHINE, r"Software\Policies")
    for below in ("Software", "System", "Control Panel"):
        found |= tree(winreg.HKEY_USERS, f"{sid}\\{below}")
    return found


class Desk:
    def __init__(self) -> None:
        self.machine = WindowsMachine(["C:"])
        self.journal = Path(PROGRAMS) / f"journal-{uuid.uuid4().hex}"
        self.number = 0

    def run(self) -> SettingsRun:
        return SettingsRun(self.machine, self.journal, frozenset())

    def programs(self) -> dict[str, Program]:
        return {program.key: program for program in self.machine.programs()}

    def change(self, key: str, intent: Intent) -> ChangeMade:
        self.number += 1
        listed = self.programs().get(key)
        wanted = Wanted(program=key, was=listed.now if listed else intent, intent=intent)
        order = ChangeSettingsOrder(run_id=self.number, lease="l", wanted=(wanted,))
        (made,) = self.run().change(order)
        return made

    def set(self, setting: str, was: Scalar | None, value: Scalar, of: str = "") -> ChangeMade:
        self.number += 1
        wanted = WantedValue(setting=setting, person=of, previous=was, value=value)
        order = ChangeSettingsOrder(run_id=self.number, lease="l", values=(wanted,))
        (made,) = self.run().change(order)
        return made

    def back(self, made: ChangeMade) -> ChangeMade:
        assert made.id, made.refused
        order = PutSettingsBackOrder(run_id=99, lease="l", changes=(made.id,))
        (told,) = self.run().put_back(order)
        return told


def entries_are_read_in_all_places_and_switched_by_their_marks() -> None:
    words, sid = program("words"), person().sid
    local, users = winreg.HKEY_LOCAL_MACHINE, winreg.HKEY_USERS
    folder = os.path.join(os.environ["APPDATA"], r"Microsoft\Windows\Start Menu\Programs\Startup")
    os.makedirs(folder, exist_ok=True)
    link = os.path.join(folder, "Tide.lnk")
    with open(link, "wb") as file:
        file.write(shortcut_to(program("tide")))
    with (
        entry(local, RUN, "Words", f'"{words}" /quiet', winreg.KEY_WOW64_64KEY),
        entry(local, RUN, "Words 32", f"{words} /old", winreg.KEY_WOW64_32KEY),
        entry(users, f"{sid}\\{RUN}", "Own", f"{words} /own"),
        entry(local, RUN, "System", r"C:\windows\system32\notepad.exe", winreg.KEY_WOW64_64KEY),
    ):
        desk = Desk()
        listed = desk.programs()
        name = person().name
        ours = {
            f'path:"{words}" /quiet', f"path:{words} /old", f"person:{name}:{words} /own",
            f'person:{name}:"{PROGRAMS}\\tide.exe"',
        }  # fmt: skip
        assert ours <= listed.keys(), sorted(listed)
        assert all(listed[key].digest for key in ours), listed
        assert listed[r"path:C:\windows\system32\notepad.exe"].guarded
        before = everything()
        for key in sorted(ours):
            made = desk.change(key, Intent.ON_DEMAND)
            assert not made.refused, (key, made)
            assert desk.programs()[key].now is Intent.ON_DEMAND
            again = desk.change(key, Intent.AT_START)
            assert not again.refused, again
            assert desk.programs()[key].now is Intent.AT_START
            assert desk.back(again).state is ChangeState.PUT_BACK
            assert desk.back(made).state is ChangeState.PUT_BACK
            assert everything() == before, key
        refused = desk.change(r"path:C:\windows\system32\notepad.exe", Intent.ON_DEMAND)
        assert "part of the system" in refused.refused, refused
        assert everything() == before
    os.unlink(link)


def lay_an_entry() -> None:
    with winreg.CreateKeyEx(winreg.HKEY_USERS, f"{person().sid}\\{RUN}") as opened:
        command = f"{program('words')} /own"
        winreg.SetValueEx(opened, "Words", 0, winreg.REG_SZ, command)


def what_was_set_is_back() -> None:
    """By the registry itself: nothing marks the entry, and no policy is set."""
    assert keys.values_of("HKU", rf"{person().sid}\{marks.MARKS}\Run").get("Words") is None
    machine = WindowsMachine(["C:"])
    (words,) = [program for program in machine.programs() if program.name == "Words"]
    assert words.now is Intent.AT_START, words
    assert keys.values_of("HKLM", r"Software\Policies\Microsoft\Windows\WindowsUpdate\AU") == {}


def a_mark_that_somebody_set_is_theirs() -> None:
    words, sid = program("words"), person().sid
    key = f"{sid}\\{marks.MARKS}\\Run"
    with entry(winreg.HKEY_USERS, f"{sid}\\{RUN}", "Own", f"{words} /own"):
        desk = Desk()
        program_key = f"person:{person().name}:{words} /own"
        made = desk.change(program_key, Intent.ON_DEMAND)
        assert made.person == person().name
        theirs = struct.pack("<IQ", 2, 0)
        with winreg.CreateKeyEx(winreg.HKEY_USERS, key, 0, winreg.KEY_WRITE) as opened:
            winreg.SetValueEx(opened, "Own", 0, winreg.REG_BINARY, theirs)
        drifted = desk.run().drifted(desk.machine.programs(), [])
        assert [drift.value for drift in drifted] == ["at start"], drifted
        assert desk.back(made).state is ChangeState.ALTERED
        assert keys.values_of("HKU", key)["Own"] == theirs
        winreg.DeleteKey(winreg.HKEY_USERS, key)


def services_are_switched_by_the_service_manager() -> None:
    api = ctypes.WinDLL("advapi32", use_last_error=True)
    for call in (api.OpenSCManagerW, api.CreateServiceW):
        call.restype = ctypes.c_void_p
    api.CreateServiceW.argtypes = (
        ctypes.c_void_p, ctypes.c_wchar_p, ctypes.c_wchar_p, *(ctypes.c_uint32,) * 4,
        ctypes.c_wchar_p, ctypes.c_wchar_p, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p,
        ctypes.c_void_p,
    )  # fmt: skip
    manager = api.OpenSCManagerW(None, None, 0xF003F)

    def create(name: str, path: str, needs: str = "") -> None:
        depends = ctypes.create_unicode_buffer(f"{needs}\0") if needs else None
        service = api.CreateServiceW(
            manager, name, f"{name} helper", 0xF01FF, 0x10, 2, 0, f'"{path}" /service', None, None,
            ctypes.cast(depends, ctypes.c_void_p) if depends else None, None, None,
        )  # fmt: skip
        assert service, ctypes.get_last_error()

    create("PhxTide", program("tide-service"))
    create("PhxMoon", program("moon-service"), needs="PhxTide")
    create("PhxSystem", r"C:\windows\system32\spoolsv.exe")
    desk = Desk()
    listed = {p.name: p for p in desk.machine.programs()}
    tide = listed["PhxTide helper"]
    assert (tide.now, tide.guarded, tide.needed_by) == (
        Intent.AT_START, "", ("PhxMoon helper",),
    ), tide  # fmt: skip
    assert listed["PhxSystem helper"].guarded == "it is part of the system"
    barred = desk.change(tide.key, Intent.OFF)
    assert "PhxMoon helper needs it" in barred.refused, barred
    for key, intent, start in (
        (listed["PhxMoon helper"].key, Intent.OFF, services.DISABLED),
        (tide.key, Intent.ON_DEMAND, services.ON_DEMAND),
    ):
        name = "PhxTide" if key == tide.key else "PhxMoon"
        made = desk.change(key, intent)
        assert not made.refused, made
        said = keys.values_of("HKLM", rf"{services.SERVICES}\{name}")
        assert said["Start"] == start, said
        assert desk.back(made).state is ChangeState.PUT_BACK
        said = keys.values_of("HKLM", rf"{services.SERVICES}\{name}")
        assert said["Start"] == services.AUTOMATIC, said
    later = desk.change(tide.key, Intent.AFTER_START)
    assert "only by hand" in later.refused, later
    for bad in ("..\\PhxTide", "", "a/b", "x" * 300):
        try:
            services.ServiceStarts().write(bad, StoredText(text="4"))
        except OSError:
            continue
        raise AssertionError(bad)


def values_of_people_and_the_machine_go_round() -> None:
    desk = Desk()
    name = person().name
    seen = {(value.key, value.person): value for value in desk.machine.values()}
    assert seen["updates", ""].value == "by-itself", seen
    before = everything()
    for setting in ("motion", "play", "interruptions", "sees", "hears", "locates"):
        was = seen[setting, name].value
        made = desk.set(setting, was, not was, name)
        assert not made.refused, (setting, made)
        now = {(value.key, value.person): value.value for value in desk.machine.values()}
        assert now[setting, name] is (not was)
        assert desk.back(made).state is ChangeState.PUT_BACK
        assert everything() == before, setting
    made = desk.set("updates", "by-itself", "wednesday-noon")
    assert not made.refused, made
    said = keys.values_of("HKLM", r"Software\Policies\Microsoft\Windows\WindowsUpdate\AU")
    assert said == {"AUOptions": 4, "ScheduledInstallDay": 4, "ScheduledInstallTime": 12}, said
    assert desk.back(made).state is ChangeState.PUT_BACK
    assert everything() == before


def nothing_else_is_written_and_odd_values_cost_only_themselves() -> None:
    sid = person().sid
    port = desk_port()
    for path in (
        r"HKLM 64 SOFTWARE\Microsoft\Windows\CurrentVersion\Run\\Evil",
        rf"HKU 64 {sid}\Software\Microsoft\Windows\CurrentVersion\Run\\Evil",
        r"HKLM 64 SYSTEM\CurrentControlSet\Services\Tcpip\\Start",
        rf"HKU 64 {sid}\{marks.MARKS}\Other\\x",
        r"HKCR 64 .exe\\x",
        r"HKLM 64 Software\Policies\\x",
        "nonsense",
        "",
    ):
        for state in (StoredText(text='[1, "x"]'), Folder(), NOTHING):
            try:
                port.write(path, state)
            except OSError:
                continue
            raise AssertionError(path)
    key = f"{sid}\\{marks.MARKS}\\Run"
    with entry(winreg.HKEY_USERS, f"{sid}\\{RUN}", "Odd", "%NOWHERE%\\x"):
        # a mark that is no bytes, a setting that is no number
        with winreg.CreateKeyEx(winreg.HKEY_USERS, key, 0, winreg.KEY_WRITE) as opened:
            winreg.SetValueEx(opened, "Odd", 0, winreg.REG_SZ, "off")
        store = rf"{sid}\System\GameConfigStore"
        with winreg.CreateKeyEx(winreg.HKEY_USERS, store, 0, winreg.KEY_WRITE) as opened:
            winreg.SetValueEx(opened, "GameDVR_Enabled", 0, winreg.REG_SZ, "maybe")
        desk = Desk()
        (odd,) = (p for p in desk.machine.programs() if p.name == "Odd")
        assert odd.guarded == "what it starts cannot be told", odd
        seen = {value.key: value for value in desk.machine.values()}
        assert seen["play"].unread and not seen["motion"].unread
        winreg.DeleteKey(winreg.HKEY_USERS, key)
        winreg.DeleteKey(winreg.HKEY_USERS, store)


def no_other_machine_is_asked_for_what_somebody_wrote_down() -> None:
    """To ask another machine is to sign in there, with all that the agent may."""
    sid, shell = person().sid, registry._SHELL
    asked: list[str] = []

    def listen(event: str, args: tuple[object, ...]) -> None:
        if event in ("open", "os.listdir", "os.scandir") and str(args[0]).startswith("\\\\"):
            asked.append(str(args[0]))

    sys.addaudithook(listen)
    real = os.stat, os.path.isfile, os.path.isdir

    def watched(check: Callable[..., object]) -> Callable[..., object]:
        def checked(path: str, *args: object, **more: object) -> object:
            if str(path).startswith("\\\\") and not str(path).startswith("\\\\?\\"):
                asked.append(str(path))
            return check(path, *args, **more)

        return checked

    os.stat, os.path.isfile, os.path.isdir = map(watched, real)  # type: ignore[assignment]
    with (
        entry(winreg.HKEY_USERS, f"{sid}\\{RUN}", "Far", r'"\\far\share\x.exe" /x'),
        entry(winreg.HKEY_USERS, f"{sid}\\{RUN}", "Farther", r"\\far\share\y.exe"),
        entry(winreg.HKEY_USERS, f"{sid}\\{shell}", "Startup", r"\\far\share\start"),
        entry(winreg.HKEY_USERS, f"{sid}\\{shell}", "Local AppData", r"\\far\share\data"),
    ):
        machine = Desk().machine
        programs = {p.name: p for p in machine.programs()}
        assert programs["Far"].guarded == programs["Farther"].guarded != "", programs
        for base in ("user-local-data", "user-temp", "user-downloads"):
            list(machine.locations(base))  # type: ignore[arg-type]
    assert asked == [], asked


def who_is_not_signed_in_is_said_and_nothing_of_theirs_is_set() -> None:
    profile = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion\ProfileList\S-1-5-21-9-9-9-1003"
    os.makedirs(f"{PROGRAMS}\\ben", exist_ok=True)
    local = winreg.HKEY_LOCAL_MACHINE
    with entry(local, profile, "ProfileImagePath", f"{PROGRAMS}\\ben"):
        desk = Desk()
        assert "signed in" in desk.programs()["person:ben:"].unread
        seen = {value.key: value for value in desk.machine.values() if value.person == "ben"}
        assert seen and all("signed in" in value.unread for value in seen.values())
        refused = desk.set("motion", True, False, "ben").refused
        assert "signed in" in refused, refused
    winreg.DeleteKey(local, profile)


def all_kinds_of_values_go_round() -> None:
    sid = person().sid
    place = keys.Place("HKU", f"{sid}\\{marks.MARKS}\\Run", "Any\\name, 'quoted'")
    port = desk_port()
    for at in (place.above.above, place.above):
        if keys.read(at) != Folder():
            port.write(at.path, Folder())
    for kind, value in (
        (winreg.REG_SZ, "ä%PATH%"), (winreg.REG_EXPAND_SZ, "%PATH%"),
        (winreg.REG_BINARY, b"\0\xff"),
        (winreg.REG_BINARY, None), (winreg.REG_DWORD, 2**32 - 1), (winreg.REG_QWORD, 2**64 - 1),
        (winreg.REG_MULTI_SZ, ["a", "b c"]), (winreg.REG_NONE, b"x"),
    ):  # fmt: skip
        port.write(place.path, StoredText(text=keys.packed(value, kind)))
        read = keys.read(place)
        assert read == StoredText(text=keys.packed(value, kind)), (kind, value, read)
        with winreg.OpenKey(winreg.HKEY_USERS, place.key) as opened:
            assert winreg.QueryValueEx(opened, place.name) == (value, kind)
    winreg.DeleteKey(winreg.HKEY_USERS, place.key)


def desk_port() -> keys.Registry:
    from phylax.agent.machines.windows import values

    return keys.Registry(values.OURS, values.ABOVE)


def shortcut_to(path: str) -> bytes:
    """A shortcut as the system writes them, with a local path in its link info."""
    base = path.encode("cp1252") + b"\0"
    info = struct.pack("<7I", 0x1C + len(base) + 1, 0x1C, 1, 0, 0x1C, 0, 0x1C + len(base)) + base
    header = struct.pack("<I16sI", 0x4C, b"\0" * 16, 0x2)
    return header.ljust(0x4C, b"\0") + info + b"\0"


if __name__ == "__main__":
    main()
