"""What the Windows Python itself checks of what machines have: `python -m windows.inside_upkeep
NAME`."""

from __future__ import annotations

import sys
import winreg
from collections.abc import Callable

from phylax.agent.machines.windows import WindowsMachine
from phylax.core.actions import InstallUpdates
from phylax.core.checks.findings import Checked, Result
from phylax.core.inventory import DriversListed, HardwareListed, ProgramsListed
from phylax.core.inventory.programs import Removal

_UNINSTALL = r"SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall"
_CLASS = r"SYSTEM\CurrentControlSet\Control\Class\{4d36e968-e325-11ce-bfc1-08002be10318}"


def main() -> None:
    checks: dict[str, Callable[[], None]] = {
        name: check for name, check in globals().items() if callable(check)
    }
    checks[sys.argv[1]]()


def watch(done: int = 0, of: int | None = None) -> None:
    """Nobody ends it."""


def entry(key: str, view: int = winreg.KEY_WOW64_64KEY, **values: object) -> None:
    with winreg.CreateKeyEx(winreg.HKEY_LOCAL_MACHINE, key, 0, winreg.KEY_ALL_ACCESS | view) as at:
        for name, value in values.items():
            kind = winreg.REG_DWORD if isinstance(value, int) else winreg.REG_SZ
            winreg.SetValueEx(at, name, 0, kind, value)  # type: ignore[arg-type]


def programs_are_read_in_both_views_with_version_and_size() -> None:
    entry(rf"{_UNINSTALL}\chat", DisplayName="Harbour Chat", DisplayVersion="4.1",
          Publisher="Harbour Software", EstimatedSize=4096, InstallDate="20260302")  # fmt: skip
    entry(rf"{_UNINSTALL}\old", winreg.KEY_WOW64_32KEY, DisplayName="Old copy", NoRemove=1)
    entry(rf"{_UNINSTALL}\office", DisplayName="Tide Office (trial)", InstallDate="soon",
          EstimatedSize="large")  # fmt: skip
    entry(rf"{_UNINSTALL}\part", DisplayName="A part of it", SystemComponent=1)
    entry(rf"{_UNINSTALL}\nameless", DisplayVersion="1")
    came = list(WindowsMachine().check("programs", "", watch))
    (listed,) = [message for message in came if isinstance(message, ProgramsListed)]
    by_name = {program.name: program for program in listed.programs}
    chat = by_name["Harbour Chat"]
    assert (chat.version, chat.maker, chat.size) == ("4.1", "Harbour Software", 4096 * 1024)
    assert chat.installed_at is not None and chat.installed_at.year == 2026
    assert chat.removal is Removal.BY_HAND and chat.why
    assert by_name["Old copy"].removal is Removal.NEVER
    assert by_name["Tide Office (trial)"].trial and by_name["Tide Office (trial)"].size is None
    assert "A part of it" not in by_name and "" not in by_name
    (checked,) = [message for message in came if isinstance(message, Checked)]
    assert checked.result is Result.CLEAN


def drivers_are_read_with_their_dates() -> None:
    entry(rf"{_CLASS}\0007", DriverDesc="Screen", DriverVersion="31.2", DriverDate="5-14-2024",
          ProviderName="Corrin", InfPath="oem7.inf")  # fmt: skip
    entry(rf"{_CLASS}\0008", DriverDesc="Odd", DriverDate="yesterday")
    entry(rf"{_CLASS}\Properties", DriverDesc="None")
    came = list(WindowsMachine().check("drivers", "", watch))
    (listed,) = [message for message in came if isinstance(message, DriversListed)]
    drivers = {driver.device: driver for driver in listed.drivers}
    assert (drivers["Screen"].version, drivers["Screen"].date) == ("31.2", "2024-05-14")
    assert drivers["Odd"].date == "" and "None" not in drivers


def what_is_built_in_is_read_or_said_not_to_be() -> None:
    came = list(WindowsMachine().check("hardware", "", watch))
    (listed,) = [message for message in came if isinstance(message, HardwareListed)]
    (checked,) = [message for message in came if isinstance(message, Checked)]
    assert bool(listed.unread) == (checked.result is Result.COULD_NOT_LOOK)
    assert listed.memory


def all_else_is_by_hand_and_says_so() -> None:
    machine = WindowsMachine()
    for work in (
        lambda: list(machine.check("file-system", "", watch)),
        lambda: list(machine.act(InstallUpdates(), watch)),
        machine.restarting,
    ):
        try:
            work()
        except OSError as refused:
            assert "by hand" in str(refused)
        else:
            raise AssertionError("it was done")


if __name__ == "__main__":
    main()
