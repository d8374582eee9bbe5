"""A Linux system's own categories: logs, journal, archives, crash reports, kernels, programs and
disabled package revisions, each from where the system really keeps it."""

import fcntl
import os
import shutil
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from engine import Bench, ByContents, NothingRuns, ledger_of, lines_of
from helpers import make_file
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.machines.linux.packages import Packages

STATUS = """\
Package: linux-image-6.1.0-9-amd64
Status: install ok installed
Priority: optional
Installed-Size: 1000

Package: linux-headers-6.1.0-9-amd64
Status: install ok installed
Installed-Size: 500

Package: linux-image-6.1.0-13-amd64
Status: install ok installed
Installed-Size: 2000
Description: the kernel
 with a second line
 Package: not-a-field

Package: linux-image-6.1.0-18-amd64
Status: install ok installed
Installed-Size: 3000

Package: linux-image-5.10.0-1-amd64
Status: deinstall ok config-files
Installed-Size: 9000

Package: linux-image-amd64
Status: install ok installed
Installed-Size: 10

Package: chartroom
Status: install ok installed
Priority: optional
Architecture: amd64
Installed-Size: 4000

Package: chartroom-data
Status: install ok installed
Installed-Size: 70000

Package: libtide1
Status: install ok installed
Installed-Size: 100

Package: coreutils
Status: install ok installed
Essential: yes
Priority: required
Installed-Size: 100
"""


@pytest.fixture
def root(tmp_path: Path) -> Path:
    """A made-up system's tree with its package database."""
    dpkg = tmp_path / "var/lib/dpkg"
    make_file(dpkg / "status").write_text(STATUS)
    make_file(tmp_path / "var/lib/apt/extended_states").write_text(
        "Package: libtide1\nAuto-Installed: 1\n\nPackage: chartroom-data\nAuto-Installed: 1\n"
    )
    for version, days in (("6.1.0-9", 300), ("6.1.0-13", 20), ("6.1.0-18", 40)):
        make_file(dpkg / f"info/linux-image-{version}-amd64.list", days_old=days)
        make_file(tmp_path / f"boot/vmlinuz-{version}-amd64", days_old=days)
    for name, file in (("chartroom:amd64", "/usr/bin/chartroom"), ("libtide1", "/usr/lib/t.so"),
                       ("coreutils", "/bin/ls")):  # fmt: skip
        make_file(dpkg / f"info/{name}.list").write_text(f"/.\n/usr\n{file}\n")
        make_file(tmp_path / file.lstrip("/"))
    (tmp_path / "home/anna").mkdir(parents=True)
    return tmp_path


@pytest.fixture
def bench(root: Path) -> Bench:
    (root / "agent").mkdir()
    machine = NothingRuns([str(root / "home/anna")], root=str(root))
    return Bench(machine, root / "agent")


def names(bench: Bench) -> set[str]:
    return {item.path for item in bench.listing}


def test_rotated_and_large_logs_go_open_ones_stay(root: Path, bench: Bench) -> None:
    log = root / "var/log"
    for name, size, days in (("daemon.log.4.gz", 9000, 60), ("daemon.log", 9000, 1),
                             ("small.log", 10, 60), ("grown.log", 9000, 60),
                             ("notes.txt", 9000, 60), ("apt/history.log", 9000, 60)):  # fmt: skip
        make_file(log / name, size, days_old=days)
    with (log / "grown.log").open():
        line = bench.look("old-logs", keep_for="P30D", only_larger=8192)
        assert line is not None
        assert {i.path: i.reason for i in line.largest} == {
            "daemon.log.4.gz": None, "daemon.log": "too young", "small.log": "not large enough",
            "grown.log": "in use",
        }  # fmt: skip
        bench.clean("old-logs", keep_for="P30D", only_larger=8192)
    left = {str(p.relative_to(log)) for p in log.rglob("*") if p.is_file()}
    assert left == {"daemon.log", "small.log", "grown.log", "notes.txt", "apt/history.log"}


def test_each_log_belongs_to_one_category(root: Path, bench: Bench) -> None:
    make_file(root / "var/log/apt/history.log", 5000, days_old=60)
    journal = root / "var/log/journal/4f1c"
    make_file(journal / "system@0001-2.journal", 6000, days_old=60)
    make_file(journal / "system.journal", 6000, days_old=60)
    held = {line.category: line.total.count for line in lines_of(bench.machine)}
    assert (held["update-logs"], held["journal"], held["old-logs"]) == (1, 1, 0)


def test_the_journal_keeps_a_month_and_a_size_the_oldest_go_first(root: Path, bench: Bench) -> None:
    journal = root / "var/log/journal/4f1c"
    for n, days in enumerate((2, 5, 9, 40)):
        make_file(journal / f"system@{n}.journal", 8192, days_old=days)
    make_file(journal / "user-1000.journal", 8192, days_old=99)
    line = bench.look("journal", keep_for="P30D", keep_under=2 * 8192)
    assert line is not None and line.removable.count == 2
    bench.clean("journal", keep_for="P30D", keep_under=2 * 8192)
    assert {p.name for p in journal.iterdir()} == {
        "system@0.journal", "system@1.journal", "user-1000.journal",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("category", "path", "goes"),
    [
        ("system-temp", "var/tmp/build/out.o", True),
        ("system-temp", "tmp/systemd-private-1/tmp/x", False),
        ("update-downloads", "var/cache/apt/archives/vim_9.deb", True),
        ("update-downloads", "var/cache/apt/archives/partial/vim_9.deb", True),
        ("update-downloads", "var/cache/apt/archives/lock", False),
        ("update-downloads", "var/cache/apt/pkgcache.bin", False),
        ("update-downloads", "var/cache/dnf/base/packages/vim-9.rpm", True),
        ("error-reports", "var/crash/_usr_bin_vi.1000.crash", True),
        ("error-reports", "var/lib/systemd/coredump/core.vi.zst", True),
        ("thumbnails", "home/anna/.cache/thumbnails/large/a.png", True),
        ("tool-caches", "home/anna/.cache/pip/http/a", True),
        ("tool-caches", "home/anna/.npm/_cacache/content/a", True),
        ("user-caches", "home/anna/.cache/drawing/a", True),
        ("user-caches", "home/anna/.cache/pip/http/a", False),
        ("user-caches", "home/anna/.cache/chromium/Default/Cache/a", False),
        ("web-cache", "home/anna/.cache/chromium/Default/Cache/a", True),
    ],
)
def test_each_location_is_where_the_system_keeps_it(
    root: Path, bench: Bench, category: str, path: str, goes: bool
) -> None:
    file = make_file(root / path, days_old=900)
    os.utime(file, (file.stat().st_mtime, file.stat().st_mtime))
    line = bench.look(category, off=False, keep_for="P90D")
    assert (line is not None and line.removable.count == 1) is goes
    bench.clean(category, off=False, keep_for="P90D")
    assert file.exists() is not goes


PLACES = {
    "user-temp": "home/anna/.tmp", "system-temp": "var/tmp", "downloads": "home/anna/Downloads",
    "web-cache": "home/anna/.cache/mozilla/firefox/x.default/cache2",
    "user-caches": "home/anna/.cache/drawing", "thumbnails": "home/anna/.cache/thumbnails",
    "tool-caches": "home/anna/.gradle/caches", "update-logs": "var/log/apt",
    "error-reports": "var/crash",
}  # fmt: skip


def test_sums_of_every_category_are_those_that_find_adds_up(root: Path) -> None:
    for n, place in enumerate(PLACES.values()):
        for k in range(5):
            make_file(root / place / f"deep/{k}/file", 3000 * (n + 1) + 5000 * k, days_old=400)
        with (root / place / "sparse").open("wb") as sparse:
            sparse.truncate(10**9)
            sparse.write(b"x" * 9000)
        os.utime(root / place / "sparse", (1, 1))
        os.link(root / place / "deep/0/file", root / place / "twin")
    machine = NothingRuns([str(root / "home/anna")], root=str(root))
    held = {line.category: line.total.size for line in lines_of(machine)}
    for category, place in PLACES.items():
        listed = subprocess.run(
            ["find", str(root / place), "-type", "f", "-printf", "%i %b %s\n"],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        by_number = {i: int(blocks) for i, blocks, _ in map(str.split, listed.stdout.splitlines())}
        wanted = 512 * sum(by_number.values())
        assert held[category] == wanted, category


def test_an_installers_folder_is_one_item_and_no_temporary_file(root: Path, bench: Bench) -> None:
    for n in range(3):
        make_file(root / f"tmp/selfgz4711/part{n}", 5000, days_old=30)
    make_file(root / "tmp/other", 5000, days_old=30)
    leftover = bench.look("setup-leftovers", keep_for="P7D")
    temp = bench.look("system-temp", keep_for="P7D")
    du = subprocess.run(
        ["du", "-s", "--block-size=1", str(root / "tmp/selfgz4711")],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert leftover is not None
    assert (leftover.removable.count, leftover.removable.size) == (1, int(du.stdout.split()[0]))
    assert temp is not None and temp.removable.count == 1
    bench.clean("setup-leftovers", keep_for="P7D")
    assert os.listdir(root / "tmp") == ["other"]


def test_kernels_are_the_installed_ones_but_the_running_one(root: Path) -> None:
    things = list(Packages(str(root)).kernels("6.1.0-13-amd64"))
    assert [(k.name, k.size) for k in things] == [
        ("6.1.0-9-amd64", 1500 * 1024), ("6.1.0-18-amd64", 3000 * 1024),
    ]  # fmt: skip
    assert things[0].aged_from is not None and things[1].aged_from is not None
    assert things[0].aged_from < things[1].aged_from, "a higher version is never the older one"


def test_the_newest_kernel_stays_and_the_others_need_a_yes(root: Path, bench: Bench) -> None:
    line = bench.look("old-kernels", keep_for="P0D", keep_newest=1)
    assert line is not None
    reasons = {item.path: item.reason for item in bench.listing}
    assert reasons["6.1.0-18-amd64"] == "among the newest"
    assert reasons["6.1.0-9-amd64"] is None


def test_programs_are_those_installed_on_purpose_with_their_last_use(
    root: Path, bench: Bench
) -> None:
    program = root / "usr/bin/chartroom"
    used = (datetime.now(UTC) - timedelta(days=77)).timestamp()
    os.utime(program, (used, used - 86400))
    bench.look("programs")
    assert [(i.path, i.size) for i in bench.listing] == [("chartroom", 4000 * 1024)]
    (item,) = bench.listing
    assert item.aged_from is not None and abs(item.aged_from.timestamp() - used) < 2
    assert item.reason == "only listed"


def test_a_last_use_the_volume_does_not_note_is_not_known(volume: Path, root: Path) -> None:
    subprocess.run(["mount", "-o", "remount,noatime", str(volume)], check=True)
    subprocess.run(
        ["cp", "-a", *(str(root / name) for name in ("usr", "var", "boot")), str(volume)],
        check=True,
    )
    (program,) = Packages(str(volume)).programs()
    assert (program.name, program.aged_from) == ("chartroom", None)
    (volume / "home").mkdir()
    bench = Bench(ByContents([str(volume / "home")], root=str(volume)), root)
    bench.look("programs")
    assert [item.aged_from for item in bench.listing] == [None]


# --- this very machine -----------------------------------------------------------------------


def test_package_archives_of_this_machine_add_up_to_what_find_lists() -> None:
    line = ledger_of(LinuxMachine(), "update-downloads")
    found = subprocess.run(
        ["find", "/var/cache/apt/archives", "-name", "*.deb", "-type", "f", "-printf", "%b\n"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    blocks = [int(text) for text in found.stdout.split()]
    assert line is not None
    assert (line.total.count, line.total.size) == (len(blocks), 512 * sum(blocks))


def test_programs_of_this_machine_are_installed_ones() -> None:
    things = list(LinuxMachine().things("programs"))
    listed = subprocess.run(
        ["dpkg-query", "-W", "-f", "${Package} ${Installed-Size}\n"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    known = dict(line.split() for line in listed.stdout.splitlines() if " " in line)
    assert things
    for thing in things:
        assert thing.size == 1024 * int(known[thing.name]), thing.name


def test_an_unprivileged_agent_finds_less_and_says_what_it_could_not_look_at(
    root: Path,
) -> None:
    if os.geteuid() != 0:
        pytest.skip("becoming another person needs root")
    make_file(root / "var/log/journal/4f1c/system@1.journal", 5000, days_old=60)
    make_file(root / "var/log/private/a.log.1", 5000, days_old=60)
    make_file(root / "home/anna/.cache/drawing/a", 5000, days_old=60)
    for path in ("var/log/journal", "var/log/private", "home/anna/.cache"):
        (root / path).chmod(0o700)
    for folder in (root, *root.parents):
        if folder != Path("/tmp") and folder.is_relative_to("/tmp"):
            folder.chmod(0o755)
    code = (
        "import os, sys; sys.path[:0] = sys.argv[2].split(os.pathsep)\n"
        "from engine import lines_of\n"
        "from phylax.agent.machines.linux import LinuxMachine\n"
        "machine = LinuxMachine([sys.argv[1] + '/home/anna'], root=sys.argv[1])\n"
        # once with all rights, for Python itself may lie where nobody else can read it
        "lines_of(machine); os.setgroups([]); os.setgid(65534); os.setuid(65534)\n"
        "for line in lines_of(machine):\n"
        "    print(line.category, line.total.size, *(u.path for u in line.unread))"
    )
    path = os.pathsep.join(p for p in sys.path if p)
    done = subprocess.run(
        [sys.executable, "-c", code, str(root), path], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr[-2000:]
    found = {words[0]: words[1:] for words in map(str.split, done.stdout.splitlines())}
    assert found["journal"] == ["0", str(root / "var/log/journal")]
    assert found["user-caches"] == ["0", str(root / "home/anna/.cache")]
    assert found["old-logs"][0] == "0"
    assert str(root / "var/log/private") in found["old-logs"]


# --- kernels ---------------------------------------------------------------------------------


@pytest.fixture
def packaged(tmp_path: Path) -> Path:
    """A root with a package database of its own: two kernels, one of them needed."""
    if os.geteuid() != 0 or not shutil.which("dpkg-deb"):
        pytest.skip("installing packages into a root needs dpkg, and root")
    root = tmp_path / "packaged"
    for folder in ("var/lib/dpkg/info", "var/lib/dpkg/updates", "var/lib/dpkg/triggers"):
        (root / folder).mkdir(parents=True)
    (root / "var/lib/dpkg/status").touch()
    packages = [
        ("linux-image-6.1.0-1-tide", ""),
        ("linux-modules-6.1.0-1-tide", ""),
        ("linux-image-6.1.0-2-tide", ""),
        ("linux-image-tide", "Depends: linux-image-6.1.0-2-tide\n"),
    ]
    for name, more in packages:
        build = tmp_path / name
        (build / "DEBIAN").mkdir(parents=True)
        (build / "DEBIAN/control").write_text(
            f"Package: {name}\nVersion: 1\nArchitecture: all\nMaintainer: Nobody <n@tide.example>\n"
            f"Installed-Size: 90\n{more}Description: made up\n"
        )
        if name.startswith("linux-image-6"):
            make_file(build / f"boot/vmlinuz-{name.removeprefix('linux-image-')}", 4000)
        subprocess.run(["dpkg-deb", "-b", str(build)], check=True, stdout=subprocess.DEVNULL)
        subprocess.run(
            ["dpkg", f"--root={root}", "--force-script-chrootless", "-i", f"{build}.deb"],
            check=True, stdout=subprocess.DEVNULL,
        )  # fmt: skip
    return root


def test_an_old_kernel_goes_by_the_package_manager_and_what_is_needed_stays(packaged: Path) -> None:
    machine = LinuxMachine(root=str(packaged))
    assert {k.name for k in machine.things("old-kernels")} == {"6.1.0-1-tide", "6.1.0-2-tide"}
    machine.let_go("old-kernels", "6.1.0-1-tide")
    assert [k.name for k in machine.things("old-kernels")] == ["6.1.0-2-tide"]
    assert not (packaged / "boot/vmlinuz-6.1.0-1-tide").exists()
    with pytest.raises(OSError, match=r"dpkg refuses.*linux-image-tide"):
        machine.let_go("old-kernels", "6.1.0-2-tide")
    assert (packaged / "boot/vmlinuz-6.1.0-2-tide").exists()
    with pytest.raises(FileNotFoundError):
        machine.let_go("old-kernels", "6.1.0-9-tide; reboot")


def test_the_running_kernel_is_never_let_go(packaged: Path) -> None:
    with pytest.raises(OSError, match="running one"):
        Packages(str(packaged)).remove_kernel("6.1.0-1-tide", running="6.1.0-1-tide")


def test_fetched_packages_are_in_use_while_the_package_manager_holds_its_lock(
    root: Path, bench: Bench
) -> None:
    archives = root / "var/cache/apt/archives"
    package = make_file(archives / "chartroom_1.deb", days_old=30)
    lock = make_file(archives / "lock", 0)
    with lock.open("r+b") as held:
        fcntl.lockf(held, fcntl.LOCK_EX)
        outcome, _ = bench.clean("update-downloads", keep_for="P7D")
        assert package.exists()
        assert {stay.reason: stay.count for stay in outcome.left} == {"program open": 1}
    bench.clean("update-downloads", keep_for="P7D")
    assert not package.exists()
