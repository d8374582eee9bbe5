"""What lies in somebody's folders is looked at and removed with their rights, by a worker that
costs nobody else anything."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import psutil
import pytest

from engine import rule
from helpers import make_file
from people import ANNA, BEN, PeopleDesk, give, mounted
from phylax.agent.machines.linux.people import Person
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import LONGEST, BoundedReader, WorkerError
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.hold.holds import BatchPick
from phylax.core.protocol import AgreedListing, HeldOrder, SurveyMessage, UnheldMessage
from phylax.core.retention import ProtectEntry, ProtectKind, Reason

TEMP = {"user-temp": rule(keep_for="P0D")}
HELD = {"user-temp": rule(keep_for="P0D", hold_for="P3D")}


def old_files(home: Path, uid: int, count: int = 3) -> list[Path]:
    paths = [make_file(home / f".tmp/a/{n}", 5000, days_old=9) for n in range(count)]
    give(home / ".tmp", uid)
    return paths


def test_each_persons_part_is_done_and_the_sums_are_of_all(desk: PeopleDesk, home: Path) -> None:
    other = desk.home("ben", BEN)
    for folder, uid in ((home, ANNA), (other, BEN)):
        old_files(folder, uid, 1)
        make_file(folder / ".tmp/root's", 100)
    (line,) = desk.look(TEMP)
    assert (line.total.count, line.removable.count) == (4, 2)
    assert {stay.reason: stay.count for stay in line.kept} == {"somebody else's": 2}
    result = desk.clean(TEMP)
    assert result.error == ""
    (outcome,) = result.outcomes
    assert outcome.removed.count == 2
    assert {stay.reason: stay.count for stay in outcome.left} == {"somebody else's": 2}
    assert (home / ".tmp/root's").exists() and not (home / ".tmp/a/0").exists()


def test_what_was_agreed_to_is_told_once_by_whose_it_is(desk: PeopleDesk, home: Path) -> None:
    """The agent's own part is not asked about what lies with people, and not about what is left."""
    film = make_file(home / "Downloads/film", 900, days_old=9)
    kept = make_file(home / "Downloads/kept", 900, days_old=9)
    give(film.parent, ANNA)
    by = {"downloads": rule(keep_for="P0D", off=False)}
    desk.look(by)
    items = {item.path: item for item in desk.listing()}
    gone = items["film"].model_copy(update={"user": "somebody who left"})
    for number, (agreed, left) in enumerate(
        [((items["film"],), {}), ((gone,), {Reason.FORBIDDEN: 1})], 2
    ):
        listing = AgreedListing(category="downloads", consent_id=1, items=agreed)
        result = desk.clean(by, run_id=number, agreed=(listing,))
        (outcome,) = result.outcomes
        assert {stay.reason: stay.count for stay in outcome.left} == left
        assert not film.exists() and kept.exists()


def test_a_worker_keeps_to_the_volumes_that_were_chosen(desk: PeopleDesk, home: Path) -> None:
    """Ben's home is a volume of its own, on which he agreed to something as well."""
    first = VolumeChoice(only=(str(desk.volume),))
    with mounted("tmpfs", desk.volume / "home/ben", "-o", "size=8m,mode=755") as other:
        give(other, BEN)
        mine, theirs = old_files(home, ANNA, 2), old_files(other, BEN, 3)
        give(make_file(other / "Downloads/film", 900, days_old=9).parent, BEN)
        by = {**TEMP, "downloads": rule(keep_for="P0D", off=False)}
        assert {line.mount for line in desk.look(by)} == {str(desk.volume), str(other)}
        film = [item for item in desk.listing() if item.path == "film"]
        assert [item.mount for item in film] == [str(other)]
        lines = desk.look(by, run_id=2, volumes=first)
        assert [(line.category, line.mount, line.total.count) for line in lines] == [
            ("user-temp", str(desk.volume), 2)
        ]
        agreed = (AgreedListing(category="downloads", consent_id=1, items=tuple(film)),)
        result = desk.clean(by, run_id=3, volumes=first, agreed=agreed)
        assert result.error == ""
        outcomes = {outcome.category: outcome for outcome in result.outcomes}
        assert outcomes["user-temp"].removed.count == 2
        assert {s.reason: s.count for s in outcomes["downloads"].left} == {Reason.OTHER_VOLUME: 1}
        assert [path.exists() for path in (*mine, *theirs)] == [False, False, True, True, True]
        assert (other / "Downloads/film").exists()


def test_lines_of_volumes_that_were_not_chosen_are_not_believed(
    desk: PeopleDesk, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    old_files(home, ANNA, 1)
    (line,) = desk.look(TEMP)
    forged = line.model_copy(update={"mount": "/elsewhere"})

    def work(self: ForkServer, person: Person, job: object, handle: Callable[..., object]) -> None:
        handle(jobs.Lines(lines=(forged,)))

    monkeypatch.setattr(ForkServer, "work", work)
    lines = desk.look(TEMP, run_id=2, volumes=VolumeChoice(only=(str(desk.volume),)))
    assert [(line.mount, line.total.count) for line in lines] == [(str(desk.volume), 0)]
    assert "lines that cannot be" in lines[0].unread[0].why


def test_what_protect_entries_cover_in_homes_is_said_by_the_people_themselves(
    desk: PeopleDesk, home: Path
) -> None:
    old_files(home, ANNA, 1)
    elsewhere = desk.volume / "kept"
    elsewhere.mkdir(mode=0o755)
    entries = {
        what: ProtectEntry(kind=ProtectKind.FOLDER, pattern=what)
        for what in (f"{home}/.tmp/a", str(elsewhere), f"{home}/nowhere")
    }
    desk.look(TEMP, protect=tuple(entries.values()))
    said = {
        c.entry.pattern: (c.exists, c.kept.count)
        for c in desk.messages(SurveyMessage)[-1].covers or ()
    }
    assert said == dict(zip(entries, [(True, 1), (True, 0), (False, 0)], strict=True))


def test_what_is_held_for_people_is_told_put_back_and_ends_by_the_agents_own_list(
    desk: PeopleDesk, home: Path
) -> None:
    kept, ended = old_files(home, ANNA, 2)
    result = desk.clean(HELD)
    assert result.outcomes[0].held.count == 2 and result.outcomes[0].removed.count == 0
    (entry,) = desk.index.entries()
    assert (entry.uid, entry.count, entry.told) == (ANNA, 2, False)
    hold = Path(entry.folder)
    assert (hold.stat().st_uid, hold.stat().st_mode & 0o777) == (ANNA, 0o700)
    assert (hold.parent.stat().st_uid, hold.parent.stat().st_mode & 0o777) == (0, 0o711)
    told = {item.path: item.number for page in desk.tell_held() for item in page.items}
    assert len(told) == 2 and not desk.tell_held()
    # the service's records were set back
    desk.crew.tell_again()
    assert sum(len(page.items) for page in desk.tell_held()) == 2 and not desk.tell_held()
    order = HeldOrder(
        kind="put back", run_id=3, lease="l",
        picks=(BatchPick(batch=entry.batch, numbers=(told["a/0"],)),),
    )  # fmt: skip
    done = desk.carry_out(order)
    assert done.outcomes[0].put_back.count == 1 and kept.exists() and not ended.exists()
    assert kept.stat().st_uid == ANNA
    desk.expire(days=4)
    assert not list(desk.index.entries()) and not any(hold.iterdir())
    counts = [(m.status, m.numbers) for m in desk.messages(UnheldMessage)]
    assert ("put back", ((told["a/0"], told["a/0"]),)) in counts and counts[-1][0] == "gone"


def test_a_worker_has_its_persons_rights_and_nobody_may_attach_to_it(
    desk: PeopleDesk, home: Path, fork_server: ForkServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    seen: dict[str, str] = {}
    pids = remember_pids(fork_server, monkeypatch)

    def handle(message: Any) -> jobs.Answer | None:
        if not seen:
            status = Path(f"/proc/{pids[-1]}/status").read_text()
            seen.update(line.split(":\t", 1) for line in status.splitlines() if ":\t" in line)
            seen["attached"] = as_person(
                ANNA,
                "import os, sys\n"
                "for what in ('mem', 'environ', 'fd', 'cwd'):\n"
                "    try:\n"
                "        path = f'/proc/{sys.argv[1]}/{what}'\n"
                "        os.listdir(path) if what == 'fd' else (\n"
                "            os.readlink(path) if what == 'cwd' else open(path, 'rb').read(1))\n"
                "        print(what)\n"
                "    except OSError:\n"
                "        pass\n",
                str(pids[-1]),
            )
        return jobs.Answer() if isinstance(message, jobs.InUseQuestion | jobs.Watched) else None

    desk.worker()
    person = Person(name="anna", uid=ANNA, gid=ANNA, home=str(home))
    job = jobs.SurveyJob(around=desk.crew.around(person), look=(), now=desk.clock.believed())
    fork_server.work(person, job, handle)
    assert seen["Uid"].split() == seen["Gid"].split() == [str(ANNA)] * 4
    assert seen["Groups"].split() == [] and seen["NoNewPrivs"] == "1"
    assert all(int(seen[name], 16) == 0 for name in ("CapEff", "CapPrm", "CapInh", "CapAmb"))
    assert seen["attached"] == "", "somebody can look into a worker that has their own rights"


def as_person(uid: int, code: str, *words: str) -> str:
    """What a person's own program prints."""
    done = subprocess.run(
        ["/usr/bin/python3", "-c", code, *words], user=uid, group=uid, extra_groups=[],
        capture_output=True, text=True, check=True, cwd="/",
    )  # fmt: skip
    return done.stdout


def remember_pids(fork_server: ForkServer, monkeypatch: pytest.MonkeyPatch) -> list[int]:
    pids: list[int] = []
    ask = fork_server._ask

    def remember(request: dict, handle: int | None = None) -> dict:
        answer = ask(request, handle)
        if request["do"] == "fork":
            pids.append(int(answer["pid"]))
        return answer

    monkeypatch.setattr(fork_server, "_ask", remember)
    return pids


class Killer:
    """Ends the worker just before its message with this number is heard."""

    _next = BoundedReader.next

    def __init__(self, pids: list[int], at: int) -> None:
        self._pids = pids
        self._left = at
        self.has_killed = False

    def hear(self, reader: BoundedReader) -> bytes:
        if self._left == 0:
            self.has_killed = True
            os.kill(self._pids[-1], signal.SIGKILL)
        self._left -= 1
        return Killer._next(reader)


@pytest.mark.parametrize("by", [TEMP, HELD], ids=["for good", "into the hold"])
def test_a_worker_killed_at_each_message_loses_nothing_and_the_account_is_true(
    home: Path, fork_server: ForkServer, desk: PeopleDesk, monkeypatch: pytest.MonkeyPatch, by: dict
) -> None:
    pids = remember_pids(fork_server, monkeypatch)
    at, was_killed = 0, True
    while was_killed and at < 60:
        paths = old_files(home, ANNA)
        killer = Killer(pids, at)
        with monkeypatch.context() as patch:
            patch.setattr(BoundedReader, "next", lambda reader, killer=killer: killer.hear(reader))
            result = desk.clean(by, run_id=10 + at)
        was_killed = killer.has_killed
        (outcome,) = result.outcomes
        there = [path for path in paths if path.exists()]
        held = desk.held_things()
        assert outcome.removed.count == (len(paths) - len(there) if by is TEMP else 0)
        assert len(there) + outcome.removed.count + len(held) == len(paths), f"killed at {at}"
        if was_killed and outcome.removed.count + len(held) < len(paths):
            assert "anna" in result.error or not there
        # the next time all goes well
        desk.clean(by, run_id=500 + at)
        assert not any(path.exists() for path in paths)
        desk.expire(days=4)
        at += 1
    assert 4 < at < 60


def test_a_worker_that_is_stopped_ends_in_time_and_others_go_on(
    desk: PeopleDesk, home: Path, fork_server: ForkServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    other = desk.home("ben", BEN)
    old_files(home, ANNA)
    gone = old_files(other, BEN)
    pids = remember_pids(fork_server, monkeypatch)
    patient = fork_server.work

    def work(person: Person, job: Any, handle: Callable, **more: Any) -> Any:
        def stop(message: Any) -> Any:
            if person.uid == ANNA:
                os.kill(pids[-1], signal.SIGSTOP)
            return handle(message)

        # the other one may take what time it needs
        return patient(person, job, stop, silence=0.5 if person.uid == ANNA else 60)

    monkeypatch.setattr(fork_server, "work", work)
    result = desk.clean(TEMP)
    assert "anna were not gone through: it did" in result.error
    assert not any(path.exists() for path in gone)


@pytest.mark.parametrize(
    ("say", "why"),
    [
        (lambda end: end.close(), "ended"),
        (lambda end: end.sendall((LONGEST + 1).to_bytes(4, "big")), "a message of"),
        (lambda end: [end.sendall(b'\0\0\0\x09{"kind":1')], "ended|did not answer"),
        (lambda end: end.sendall(b"\0\0\0"), "did not answer"),
    ],
)
def test_what_a_worker_says_is_bounded(say: Callable[[socket.socket], object], why: str) -> None:
    ours, theirs = socket.socketpair()
    # only who waits for silence waits shortly
    reader = BoundedReader(ours, silence=0.3 if "answer" in why else 60)
    thread = threading.Thread(target=say, args=(theirs,))
    thread.start()
    with pytest.raises(WorkerError, match=why):
        for _ in range(3):
            reader.next()
    thread.join()
    ours.close()


@pytest.mark.parametrize(
    "text",
    [
        b"", b"null", b"[]", b'{"kind": "no such"}', b'{"kind": "went", "category": "x"}', b"\xff",
        b"[" * 100_000, b'{"kind":"failed","why":"\\ud800"}', b"9" * 10_000,
        b'{"kind":"watched","category":"x","items":-1,"size":0}',
        b'{"kind":"watched","category":"x","items":1,"size":0,"more":1}',
    ],
)  # fmt: skip
def test_what_is_no_message_is_refused(text: bytes) -> None:
    with pytest.raises(ValueError):
        jobs.FROM_WORKER.validate_json(text)


def test_a_worker_cannot_take_more_memory_than_it_is_given(tmp_path: Path) -> None:
    code = (
        "import os, sys\n"
        "from phylax.agent.workers.fork_server import drop_rights\n"
        "parent = os.getpid()\n"
        "child = os.fork()\n"
        "if child == 0:\n"
        "    drop_rights(3001, 3001, parent)\n"
        "    try:\n"
        "        b'x' * 2**30\n"
        "        os._exit(1)\n"
        "    except MemoryError:\n"
        "        os._exit(0 if os.getresuid() == (3001,) * 3 else 2)\n"
        "sys.exit(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


def test_the_fork_server_is_not_in_the_way_of_the_agents_end(tmp_path: Path) -> None:
    fork_server = ForkServer()
    fork_server.close()
    with pytest.raises(WorkerError, match="fork server has ended"):
        fork_server.work(
            Person(name="x", uid=ANNA, gid=ANNA, home="/"),
            jobs.TellJob(
                around=jobs.Surroundings(
                    person=Person(name="x", uid=ANNA, gid=ANNA, home="/"), volumes=()
                ),
                folders=(),
                batches=(),
            ),
            lambda message: None,
        )


def test_a_fork_server_that_was_ended_is_started_anew(desk: PeopleDesk, home: Path) -> None:
    fork_server = ForkServer()
    assert fork_server.is_ready() and fork_server._process is not None
    fork_server._process.kill()
    fork_server._process.wait()
    old_files(home, ANNA)
    again = PeopleDesk(desk.volume, desk.own, fork_server)
    assert again.clean(TEMP).outcomes[0].removed.count == 3
    fork_server.close()


def test_an_idle_machine_keeps_no_fork_server(desk: PeopleDesk, home: Path) -> None:
    """It is there while there is work: not before, and not for long after."""
    fork_server, me = ForkServer(), psutil.Process()
    before = {child.pid for child in me.children()}
    fork_server.rest(0)
    assert fork_server.is_ready()
    (pid,) = {child.pid for child in me.children()} - before
    fork_server.rest()
    assert psutil.pid_exists(pid), "it was asked a moment ago"
    fork_server.rest(0)
    assert not psutil.pid_exists(pid)
    old_files(home, ANNA)
    again = PeopleDesk(desk.volume, desk.own, fork_server)
    assert again.clean(TEMP).outcomes[0].removed.count == 3
    fork_server.close()


def test_a_fork_server_stays_while_a_worker_hangs_that_only_it_can_tell_of(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Else the person would be given a second one beside it."""
    fork_server = ForkServer()
    assert fork_server.is_ready()
    hangs = True
    monkeypatch.setattr(fork_server, "_stuck", {ANNA: 4711})
    monkeypatch.setattr(fork_server, "_has_ended", lambda pid: not hangs)
    fork_server.rest(0)
    assert fork_server._process is not None and fork_server._process.poll() is None
    hangs = False
    fork_server.rest(0)
    assert fork_server._process is None


def test_a_fork_server_of_another_version_of_the_program_forks_nobody(
    desk: PeopleDesk, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The program's files were exchanged under an agent that still runs."""
    monkeypatch.setattr("phylax.agent.workers.supervisor.__version__", "0.0.9")
    fork_server = ForkServer()
    with pytest.raises(WorkerError, match="has to be started again"):
        fork_server.is_ready()
    assert fork_server._process is None


def test_names_of_any_length_are_listed_and_told(desk: PeopleDesk, home: Path) -> None:
    folder = home / "Downloads"
    for _ in range(12):
        folder = folder / ("ü" * 127)
    folder.mkdir(parents=True)
    for number in range(120):
        make_file(folder / f"{number:03d}{'ö' * 120}", days_old=90)
    give(home, ANNA)
    lines = desk.look({"downloads": rule(keep_for="P0D")})
    assert len(desk.listing()) == sum(line.total.count for line in lines) == 120
    held = {"downloads": rule(keep_for="P0D", hold_for="P3D")}
    result = desk.clean(held, standing=("downloads",))
    assert result.outcomes[0].held.count == 120 and not result.error
    assert sum(len(message.items) for message in desk.tell_held()) == 120


def test_a_browser_is_open_for_the_person_who_runs_it_and_told_by_profile(
    desk: PeopleDesk, home: Path, tmp_path: Path
) -> None:
    ben = desk.home("ben", BEN)
    for folder, uid in ((home, ANNA), (ben, BEN)):
        for profile in ("Default", "Profile 1"):
            make_file(folder / f".cache/chromium/{profile}/Cache/page", 5000, days_old=9)
        give(folder, uid)
    program = desk.volume / "chromium"
    shutil.copy(shutil.which("sleep") or "/bin/sleep", program)
    by = {"web-cache": rule(keep_for="P0D")}
    browser = subprocess.Popen([str(program), "60"], user=ANNA, group=ANNA, extra_groups=[])
    try:
        (line,) = desk.look(by)
        told = {(place.user, place.label): place.programs_open for place in line.places}
        desk.clean(by)
    finally:
        browser.kill()
        browser.wait()
    name = "anna" if "anna" in {user for user, _ in told} else str(ANNA)
    assert told[name, "Chromium, Default"] == told[name, "Chromium, Profile 1"] == ("chromium",)
    assert [told[key] for key in told if key[0] != name] == [(), ()]
    pages = [path for folder in (home, ben) for path in folder.rglob("page")]
    assert len(pages) == 2 and all(home in path.parents for path in pages)
