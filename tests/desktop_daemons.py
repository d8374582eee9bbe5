"""The real daemons of a desktop on buses of a test's own; never the machine's."""

from __future__ import annotations

import os
import select
import subprocess
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

_QUIET = {"stdin": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
_SECONDS = 30
SYSTEM_PYTHON = "/usr/bin/python3"
"""Debian's own, which has the mocks."""
POWER_DAEMON = "/usr/libexec/power-profiles-daemon"


@contextmanager
def bus(home: Path, uid: int = 0) -> Iterator[str]:
    """A message bus; its address."""
    home.mkdir(parents=True, exist_ok=True)
    runtime = home / "runtime"
    runtime.mkdir(mode=0o700)
    os.chown(runtime, uid, uid)
    daemon = subprocess.Popen(
        ["dbus-daemon", "--session", "--nofork", "--nopidfile", "--print-address=1",
         f"--address=unix:path={runtime}/bus"],
        env={"PATH": os.environ["PATH"], "HOME": str(home), "XDG_RUNTIME_DIR": str(runtime)},
        stdout=subprocess.PIPE, user=uid, group=uid, extra_groups=[], **_QUIET,  # type: ignore[call-overload]
    )  # fmt: skip
    try:
        yield _line(daemon).strip()
    finally:
        _end(daemon)


@contextmanager
def power_daemon(home: Path) -> Iterator[str]:
    """The desktop's power daemon with its pretended driver; the address of its bus."""
    with ExitStack() as stack:
        address = stack.enter_context(bus(home))
        for template, options in (("polkitd", ()), ("upower", ("-p", '{"OnBattery": false}'))):
            stack.enter_context(mock(address, template, *options))
        allow = ["--dest", "org.freedesktop.PolicyKit1", "--object-path",
                 "/org/freedesktop/PolicyKit1/Authority", "--method",
                 "org.freedesktop.DBus.Mock.AllowUnknown", "true"]  # fmt: skip
        subprocess.run(["gdbus", "call", "--address", address, *allow], check=True,
                       stdout=subprocess.DEVNULL)  # fmt: skip
        env = {"PATH": os.environ["PATH"], "DBUS_SYSTEM_BUS_ADDRESS": address,
               "POWER_PROFILE_DAEMON_FAKE_DRIVER": "1", "STATE_DIRECTORY": str(home)}  # fmt: skip
        daemon = subprocess.Popen([POWER_DAEMON], env=env, stdout=subprocess.DEVNULL, **_QUIET)  # type: ignore[call-overload]
        stack.callback(_end, daemon)
        _wait_for(address, "net.hadess.PowerProfiles")
        yield address


_NAMES = {
    "polkitd": "org.freedesktop.PolicyKit1", "upower": "org.freedesktop.UPower",
    "logind": "org.freedesktop.login1",
}  # fmt: skip


@contextmanager
def mock(address: str, template: str, *options: str) -> Iterator[None]:
    """A daemon stood in for, as its makers' mock does it."""
    with _mocked(address, ["--template", template, *options], _NAMES[template]):
        yield


@contextmanager
def bare_mock(address: str, name: str, path: str, interface: str) -> Iterator[None]:
    """A name on the bus with nothing behind it yet: the test adds what it needs."""
    with _mocked(address, [name, path, interface], name):
        yield


@contextmanager
def _mocked(address: str, what: list[str], name: str) -> Iterator[None]:
    env = {"PATH": os.environ["PATH"], "DBUS_SYSTEM_BUS_ADDRESS": address}
    command = [SYSTEM_PYTHON, "-m", "dbusmock", "--system", *what]
    daemon = subprocess.Popen(command, env=env, stdout=subprocess.DEVNULL, **_QUIET)  # type: ignore[call-overload]
    try:
        _wait_for(address, name)
        yield
    finally:
        _end(daemon)


def _wait_for(address: str, name: str) -> None:
    command = ["gdbus", "wait", "--system", "--timeout", str(_SECONDS), name]
    env = {"PATH": os.environ["PATH"], "DBUS_SYSTEM_BUS_ADDRESS": address}
    subprocess.run(command, env=env, check=True, stdout=subprocess.DEVNULL)


def _line(daemon: subprocess.Popen[bytes]) -> str:
    assert daemon.stdout is not None
    assert select.select([daemon.stdout], [], [], _SECONDS)[0], "it does not start"
    return daemon.stdout.readline().decode()


def _end(daemon: subprocess.Popen[bytes]) -> None:
    daemon.terminate()
    daemon.wait()
    if daemon.stdout is not None:
        daemon.stdout.close()
