"""A message bus that is somebody's own make: silent, drowning, talking nonsense, or gone."""

from __future__ import annotations

import os
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest
from jeepney import DBusAddress

from phylax.agent.machines.linux.values.bus import Bus
from phylax.agent.machines.linux.values.power import PowerProfile
from phylax.agent.machines.linux.values.session_bus import bus_of_person

STORE = DBusAddress("/x", "org.example.X", "org.example.X")


@contextmanager
def served(path: Path, talk: Callable[[socket.socket], None]) -> Iterator[str]:
    """A socket on which somebody talks as they like; its address."""
    server = socket.socket(socket.AF_UNIX)
    server.bind(str(path))
    server.listen()

    def serve() -> None:
        with suppress(OSError):
            while True:
                client, _ = server.accept()
                with client, suppress(OSError):
                    talk(client)

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    try:
        yield f"unix:path={path}"
    finally:
        server.shutdown(socket.SHUT_RDWR)
        server.close()
        thread.join(10)


def silent(client: socket.socket) -> None:
    client.recv(1)
    while client.recv(4096):
        pass


def nonsense(client: socket.socket) -> None:
    client.sendall(b"\xff" * 200)
    while client.recv(4096):
        pass


def signs_in_and_says_nothing(client: socket.socket) -> None:
    while line := client.recv(4096):
        if b"AUTH" in line:
            client.sendall(b"OK 00000000000000000000000000000000\r\n")


def signs_in_and_talks_nonsense(client: socket.socket) -> None:
    while line := client.recv(4096):
        if b"AUTH" in line:
            client.sendall(b"OK 00000000000000000000000000000000\r\n")
        if b"BEGIN" in line:
            client.sendall(b"l\x02\x00\x01" + b"\xff" * 300)


def hangs_up(client: socket.socket) -> None:
    client.recv(1)


TALKS = [silent, nonsense, signs_in_and_says_nothing, signs_in_and_talks_nonsense, hangs_up]


@pytest.mark.parametrize("talk", TALKS)
def test_whoever_is_at_the_other_end_it_ends_and_is_an_error(
    tmp_path: Path, talk: Callable[[socket.socket], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("phylax.agent.machines.linux.values.bus._SECONDS", 0.3)
    with served(tmp_path / "bus", talk) as address:
        bus = Bus(address)
        with pytest.raises(OSError, match=r"."):
            bus.call(STORE, "Lookup", "ss", ("devices", "camera"))
        bus.close()


@pytest.mark.parametrize("talk", TALKS)
def test_a_power_daemons_bus_that_is_odd_costs_only_that_setting(
    tmp_path: Path, talk: Callable[[socket.socket], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("phylax.agent.machines.linux.values.bus._SECONDS", 0.3)
    with served(tmp_path / "bus", talk) as address:
        assert all(seen.unread for seen in PowerProfile(address).values())


def test_a_socket_of_somebody_elses_is_not_taken_for_a_persons_bus(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(
        "phylax.agent.machines.linux.values.session_bus.runtime_folder", lambda uid: str(tmp_path)
    )
    with served(tmp_path / "bus", silent):
        os.chown(tmp_path / "bus", 1, 1)
        with bus_of_person(os.geteuid(), str(tmp_path)) as address:
            assert str(tmp_path / "bus") not in address
        os.chown(tmp_path / "bus", os.geteuid(), os.getegid())
        with bus_of_person(os.geteuid(), str(tmp_path)) as address:
            assert str(tmp_path / "bus") in address
