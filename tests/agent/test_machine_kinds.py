"""What machine kinds answer: real ones from the system itself, stand-ins from their folder."""

import fcntl
import os
import subprocess
import sys
import tomllib
from collections.abc import Callable
from pathlib import Path

import psutil
import pytest
import tomli_w
from pydantic import ValidationError

from helpers import make_file, make_standin, wait_until
from phylax.agent.config.guard import Guard
from phylax.agent.config.home import AgentConfig, AgentHome
from phylax.agent.machines.linux import LinuxMachine, mounts
from phylax.agent.machines.linux.in_use import locked_files
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.runtime.opening import open_machine
from phylax.agent.survey.places import Territory


@pytest.fixture
def home(tmp_path: Path) -> Path:
    path = tmp_path / "home/anna"
    path.mkdir(parents=True)
    return path


def test_volumes_are_those_the_system_knows(home: Path) -> None:
    (volume,) = LinuxMachine([str(home)]).volumes()
    space = os.statvfs(home)
    assert volume.capacity == space.f_blocks * space.f_frsize
    known = {part.mountpoint for part in psutil.disk_partitions(all=False)}
    assert volume.mount in known | {"/"}
    devices = [mount.device for mount in mounts()]
    assert len(devices) == len(set(devices)), "each device once, whatever is bound where"


def test_without_chosen_homes_everyone_with_a_home_is_looked_after() -> None:
    people = {name: uid for name, uid, _ in LinuxMachine().people()}
    assert people.get("root") == 0
    assert "daemon" not in people and "nobody" not in people


def test_open_and_mapped_files_of_other_processes_are_in_use(home: Path) -> None:
    opened, mapped = make_file(home / "opened", 5000), make_file(home / "mapped", 5000)
    code = (
        "import mmap, sys, time\n"
        "a = open(sys.argv[1]); f = open(sys.argv[2]); m = mmap.mmap(f.fileno(), 0, prot=1)\n"
        "f.close(); print('ready', flush=True); time.sleep(60)"
    )
    holder = subprocess.Popen(
        [sys.executable, "-c", code, str(opened), str(mapped)], stdout=subprocess.PIPE, text=True
    )
    try:
        assert holder.stdout is not None and holder.stdout.readline() == "ready\n"
        in_use = LinuxMachine([str(home)]).in_use()
    finally:
        holder.kill()
        holder.wait()
    for path in (opened, mapped):
        st = path.stat()
        assert (st.st_dev, st.st_ino) in in_use.files, path.name
    assert any(name.startswith("python") for name in in_use.programs)


@pytest.mark.parametrize("lock", [fcntl.flock, fcntl.lockf])
def test_a_file_with_an_advisory_lock_is_in_use(
    home: Path, lock: Callable[[int, int], None]
) -> None:
    file = make_file(home / "locked")
    st = file.stat()
    assert (st.st_dev, st.st_ino) not in set(locked_files())
    with file.open("r+b") as handle:
        lock(handle.fileno(), fcntl.LOCK_EX)
        assert (st.st_dev, st.st_ino) in set(locked_files())


def test_the_trash_of_a_volume_counts_only_where_the_specification_says(
    volume: Path, tmp_path: Path
) -> None:
    home = volume / "anna"
    home.mkdir()
    uid = home.stat().st_uid
    machine = LinuxMachine([str(home)])

    def found() -> list[str]:
        return [os.path.relpath(place.path, volume) for place in machine.locations("volume-trash")]

    (volume / f".Trash-{uid}").mkdir()
    shared = volume / ".Trash"
    (shared / str(uid)).mkdir(parents=True)
    assert found() == [f".Trash-{uid}"], "a shared trash without its sticky bit does not count"
    shared.chmod(0o1777)
    assert found() == [f".Trash/{uid}", f".Trash-{uid}"]
    shared.rename(volume / "elsewhere")
    shared.symlink_to(volume / "elsewhere")
    assert found() == [f".Trash-{uid}"], "nor one that is a link"


@pytest.mark.parametrize(
    ("line", "folder"),
    [
        ('XDG_DOWNLOAD_DIR="$HOME/Fetched"', "Fetched"),
        ('XDG_DOWNLOAD_DIR="relative"', "Downloads"),
        ("# nothing said", "Downloads"),
    ],
)
def test_the_download_folder_is_where_the_desktop_says(home: Path, line: str, folder: str) -> None:
    make_file(home / ".config/user-dirs.dirs").write_text(line + "\n")
    for name in ("Fetched", "Downloads"):
        (home / name).mkdir()
    (location,) = LinuxMachine([str(home)]).locations("user-downloads")
    assert location.path == str(home / folder)


def test_each_browsers_profiles_are_places_of_their_own_with_their_program(home: Path) -> None:
    for below in ("chromium/Default/Cache", "chromium/Profile 1/Cache", "mozilla/firefox/x/cache2"):
        (home / ".cache" / below).mkdir(parents=True)
    (home / ".cache/chromium/linked").symlink_to(home / ".cache/chromium/Default")
    (home / ".cache/unknown-browser/Default/Cache").mkdir(parents=True)
    machine = LinuxMachine([str(home)])
    found = {
        os.path.relpath(p.shown, home / ".cache"): p.programs
        for p in Territory(machine, Guard(machine), machine.volumes()).places("web-cache")
    }
    assert found == {
        "chromium/Default/Cache": {"chromium"},
        "chromium/Profile 1/Cache": {"chromium"},
        "mozilla/firefox/x/cache2": {"firefox", "firefox-esr"},
    }


def test_a_stand_ins_volume_shrinks_with_its_files(tmp_path: Path) -> None:
    home = make_standin(tmp_path / "m", system="windows")
    machine = StandInMachine(tmp_path / "m")
    before = machine.volumes()[0].free
    sparse = home / "Downloads/film.mp4"
    sparse.parent.mkdir()
    with sparse.open("wb") as file:
        file.truncate(300_000_000)
    (volume,) = machine.volumes()
    assert (volume.mount, before - volume.free) == ("C:", 300_000_000)
    (place,) = Territory(machine, Guard(machine), [volume]).places("downloads")
    assert (place.shown, place.mount) == ("C:\\Users\\anna\\Downloads", "C:")


def test_a_stand_in_takes_the_time_its_disk_needs(tmp_path: Path) -> None:
    make_standin(tmp_path / "m", items_per_second=1_000_000)
    StandInMachine(tmp_path / "m").pace(10)


@pytest.mark.parametrize(
    ("field", "wrong"),
    [("system", "beos"), ("volumes", []), ("items_per_second", -1), ("colour", "red")],
)
def test_a_wrong_state_file_is_refused_by_field(tmp_path: Path, field: str, wrong: object) -> None:
    make_standin(tmp_path / "m")
    state = tmp_path / "m/machine.toml"
    said = tomllib.loads(state.read_text()) | {field: wrong}
    state.write_text(tomli_w.dumps(said))
    with pytest.raises(ValidationError, match=field):
        StandInMachine(tmp_path / "m")


def test_an_agents_configuration_is_kept_and_read_back(tmp_path: Path) -> None:
    home = AgentHome(tmp_path / "agent")
    config = AgentConfig(
        url="http://127.0.0.1:8610", tag="yard", machine_id=7, kind="linux", homes=("/home/anna",)
    )
    home.save(config, "agent_secret")
    assert (home.config(), home.key()) == (config, "agent_secret")
    assert oct((tmp_path / "agent").stat().st_mode)[-3:] == "700"
    with pytest.raises(ValueError, match="--stand-in"):
        open_machine("standin", None, ())


def test_the_agents_own_folder_is_sealed(home: Path) -> None:
    machine = LinuxMachine([str(home)])
    own = home / ".tmp/agent"
    own.mkdir(parents=True)
    guard = Guard(machine, own=[str(own)])
    assert guard.why_forbidden(str(own)) and guard.why_forbidden(str(home / ".tmp"))


def test_waiting_says_what_it_waited_for() -> None:
    with pytest.raises(AssertionError, match="in vain: rain"):
        wait_until(lambda: False, "rain", seconds=0.05)
