"""Makes hostile homes from a seed: whole people with everything that may lie in somebody's folders,
and a plain account of what must survive a cleaning and what must go.

What is made before `grow_old` is as old as the rule asks, change times and all; what is made after
it is young, whatever its times say.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import random
import shutil
import socket
import stat
import struct
import subprocess
import time
from collections.abc import Callable
from contextlib import ExitStack, suppress
from pathlib import Path

from people import ANNA, BEN, PeopleDesk, silent_mount

_LONG_AGO = 1_000_000_000
_NOBODY = 2**32 - 1
_IMMUTABLE, _CASEFOLD = 0x10, 0x40000000
_ODD_NAMES = (
    "plain", "two words", "ünïcödé", "line\nbreak", "tab\t", "-rf", "*", "..hidden", "a" * 255,
    "trailing ", '"quoted"', "$HOME", "\\back", "CON", "cafe\u0301", "\u202egnp.exe",
    os.fsdecode(b"not\xffutf8"), os.fsdecode(b"\xc3"),
)  # fmt: skip
_USER_DIRS: tuple[Callable[[Path, random.Random], None], ...]


def wait_for_the_next_second() -> int:
    """The second that is over: whatever was made before was made in it or earlier."""
    second = int(time.time())
    while int(time.time()) == second:
        time.sleep(0.01)
    # the system stamps files by a coarser clock, some milliseconds behind
    time.sleep(0.05)
    return second


class Hostile:
    """One volume full of people, and what must become of everything on it."""

    def __init__(self, desk: PeopleDesk, seed: int) -> None:
        self.desk = desk
        self.volume = desk.volume
        self.random = random.Random(seed)
        self.survives: dict[Path, str] = {}
        """Contents by path; through whatever else is mounted over it."""
        self.goes: set[Path] = set()
        self.protect: list[tuple[str, str]] = []
        self._mounts: list[Path] = []
        self._sockets: list[socket.socket] = []
        self._people = {"anna": ANNA, "ben": BEN}
        self._young: list[Callable[[], None]] = []
        self._open: list[object] = []
        self._flagged: list[Path] = []
        self._ends = ExitStack()
        self._number = 0

    # --- pieces ------------------------------------------------------------------------------

    def _name(self) -> str:
        self._number += 1
        base = self.random.choice(_ODD_NAMES)
        number = str(self._number)
        raw = os.fsencode(base)[: 255 - len(number)] + number.encode()
        return os.fsdecode(raw)

    def file(self, folder: Path, uid: int, *, name: str = "", old_times: bool = True) -> Path:
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / (name or self._name())
        content = self.random.randbytes(self.random.randrange(1, 3000))
        path.write_bytes(content)
        os.chown(path, uid, uid)
        if old_times:
            os.utime(path, (_LONG_AGO, _LONG_AGO))
        return path

    def must_survive(self, path: Path) -> Path:
        self.survives[path] = _digest(path)
        return path

    def own(self, folder: Path, uid: int) -> Path:
        """A folder on the way, and all above it below the home, somebody's."""
        folder.mkdir(parents=True, exist_ok=True)
        while folder != self.volume and folder.name not in ("home", "system"):
            if folder.stat().st_uid == 0 and folder.parent.name != "home":
                os.chown(folder, uid, uid)
            folder = folder.parent
        return folder

    def bind(self, what: Path, at: Path) -> None:
        at.mkdir(parents=True, exist_ok=True)
        subprocess.run(["mount", "--bind", str(what), str(at)], check=True)
        self._mounts.append(at)

    def close(self) -> None:
        self._ends.close()
        for path in self._flagged:
            _set_flag(path, 0)
        for end in self._sockets:
            end.close()
        for mount in reversed(self._mounts):
            subprocess.run(["umount", "--lazy", str(mount)], check=True)

    # --- a person ----------------------------------------------------------------------------

    def lay_out(self) -> None:
        """Everything that is old."""
        for name, uid in self._people.items():
            self._person(self.desk.home(name, uid), uid)
        if self.random.random() < 0.5:
            self._shared()

    def _person(self, home: Path, uid: int) -> None:
        rng = self.random
        for folder in ("Documents", "Schreibtisch", "Pictures"):
            for _ in range(2):
                self.must_survive(self.file(home / folder, uid))
            self.own(home / folder, uid)
        for place in (".tmp", ".cache/app", ".cache/app/deep/er", ".cache/other"):
            for _ in range(rng.randrange(1, 4)):
                self.goes.add(self.file(home / place, uid))
            self.own(home / place, uid)
        odd = [
            self._bind_below, self._foreign, self._links, self._pipes, self._ahead, self._closed,
            self._trash, self._user_dirs, self._moved_in, self._copied_with_times, self._deep,
            self._protected, self._other_volume, self._swapped_open, self._bound_place,
            self._trashed_now, self._silent, self._by_list, self._immutable, self._other_capitals,
        ]  # fmt: skip
        for make in rng.sample(odd, rng.randrange(3, len(odd))):
            make(home, uid)
        self._young.append(lambda: self._saved_now(home, uid))

    def _place(self, home: Path) -> Path:
        return home / self.random.choice((".tmp", ".cache/app", ".cache/other"))

    def _bind_below(self, home: Path, uid: int) -> None:
        self.bind(home / "Documents", self._place(home) / f"bound{self._name()[-3:]}")

    def _bound_place(self, home: Path, uid: int) -> None:
        # the whole place is somebody's documents under another name
        at = home / ".cache/thumbnails"
        at.mkdir(parents=True, exist_ok=True)
        os.chown(at, uid, uid)
        self.bind(home / "Pictures", at)

    def _other_volume(self, home: Path, uid: int) -> None:
        at = self._place(home) / "volume"
        at.mkdir(parents=True, exist_ok=True)
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "none", str(at)], check=True)
        self._mounts.append(at)
        self.must_survive(self.file(at, uid))

    def _silent(self, home: Path, uid: int) -> None:
        with suppress(OSError):
            self._ends.enter_context(silent_mount(self._place(home) / "silent", uid))

    def _by_list(self, home: Path, uid: int) -> None:
        """Rights by access control lists: root's folder that they may write to, with root's and
        their own files in it."""
        folder = self._place(home) / f"listed{self._name()[-3:]}"
        folder.mkdir(parents=True, exist_ok=True)
        # tag, rights, who; for each entry (acl(5), as the kernel keeps it)
        entries = ((0x01, 7, _NOBODY), (0x02, 7, uid), (0x04, 0, _NOBODY), (0x10, 7, _NOBODY),
                   (0x20, 0, _NOBODY))  # fmt: skip
        packed = struct.pack("<I", 2) + b"".join(struct.pack("<HHI", *one) for one in entries)
        with suppress(OSError):
            os.setxattr(folder, "system.posix_acl_access", packed)
        self.must_survive(self.file(folder, 0))

    def _immutable(self, home: Path, uid: int) -> None:
        path = self.file(self._place(home), uid)
        if _set_flag(path, _IMMUTABLE):
            self.must_survive(path)
            self._flagged.append(path)

    def _other_capitals(self, home: Path, uid: int) -> None:
        """A folder whose names do not tell capitals apart, protected in other ones."""
        folder = self._place(home) / f"Any{self._name()[-3:]}"
        folder.mkdir(parents=True, exist_ok=True)
        os.chown(folder, uid, uid)
        if _set_flag(folder, _CASEFOLD):
            kept = folder / "Keep"
            self.must_survive(self.file(kept, uid))
            os.chown(kept, uid, uid)
            self.protect.append(("folder", str(folder / "kEEP")))

    def _foreign(self, home: Path, uid: int) -> None:
        other = self.random.choice((0, ANNA if uid == BEN else BEN))
        folder = self._place(home)
        self.must_survive(self.file(folder, other))
        theirs = folder / f"theirs{self._name()[-3:]}"
        self.must_survive(self.file(theirs, other))
        os.chown(theirs, other, other)

    def _links(self, home: Path, uid: int) -> None:
        folder = self._place(home)
        letter = self.must_survive(self.file(home / "Documents", uid))
        (folder / "to-letters").symlink_to(home / "Documents")
        (folder / "to-letter").symlink_to(letter)
        (folder / "to-root").symlink_to("/")
        os.link(letter, folder / "same-as-letter")
        for link in ("to-letters", "to-letter", "to-root"):
            os.chown(folder / link, uid, uid, follow_symlinks=False)

    def _pipes(self, home: Path, uid: int) -> None:
        folder = self._place(home)
        os.mkfifo(folder / "pipe")
        os.mknod(folder / "zero", 0o666 | stat.S_IFCHR, os.makedev(1, 5))
        # an address of a socket is short; its file may lie as deep as one likes
        end = socket.socket(socket.AF_UNIX)
        here = os.open(folder, os.O_RDONLY)
        end.bind(f"/proc/self/fd/{here}/socket")
        os.close(here)
        self._sockets.append(end)

    def _ahead(self, home: Path, uid: int) -> None:
        path = self.must_survive(self.file(self._place(home), uid))
        with suppress(OverflowError, OSError):
            far = self.random.choice((2**33, 10**11, time.time() + 10**7))
            os.utime(path, (far, far))
        with suppress(OSError):
            past = self.file(self._place(home), uid)
            os.utime(past, (-(10**9), -(10**9)))
            self.goes.add(past)

    def _closed(self, home: Path, uid: int) -> None:
        closed = self._place(home) / f"closed{self._name()[-3:]}"
        self.must_survive(self.file(closed, uid))
        os.chown(closed, uid, uid)
        closed.chmod(self.random.choice((0o000, 0o500)))

    def _deep(self, home: Path, uid: int) -> None:
        top = self._place(home) / "very-deep"
        top.mkdir()
        os.chown(top, uid, uid)
        handle = os.open(top, os.O_RDONLY)
        for _ in range(300):
            os.mkdir("d", dir_fd=handle)
            os.chown("d", uid, uid, dir_fd=handle)
            inner = os.open("d", os.O_RDONLY, dir_fd=handle)
            os.close(handle)
            handle = inner
        os.close(handle)

    def _swapped_open(self, home: Path, uid: int) -> None:
        path = self.must_survive(self.file(self._place(home), uid))
        self._open.append(path.open("rb"))

    def _protected(self, home: Path, uid: int) -> None:
        # what is no text cannot be written down
        name = self._name().encode("utf-8", "replace").decode()
        folder = self._place(home) / name
        self.must_survive(self.file(folder, uid))
        self.own(folder, uid)
        written = str(folder)
        form = self.random.randrange(3)
        if form == 0:
            written = written.replace(f"/{folder.name}", f"//./{folder.name}")
        elif form == 1:
            self._number += 1
            way = self.volume / f"way-{self._number}"
            way.symlink_to(home)
            written = str(way / folder.relative_to(home))
        self.protect.append(("folder", written))
        odd = self.must_survive(self.file(self._place(home), uid, name=f"keep\nme{self._number}.x"))
        self.protect.append(("pattern", f"keep*me{self._number}.x"))
        assert odd.exists()

    def _trash(self, home: Path, uid: int) -> None:
        trash, rng = home / ".local/share/Trash", self.random
        notes = (
            "DeletionDate=2020-01-01T00:00:00", "DeletionDate=99999-01-01T00:00:00",
            "DeletionDate=2020-13-45T99:00:00", "DeletionDate=0001-01-01T00:00:00+23:59",
            "DeletionDate=", "nonsense", "\x00\xff",
        )  # fmt: skip
        for number in range(rng.randrange(1, 5)):
            name = f"thing{number}"
            if rng.random() < 0.5:
                self.goes.add(self.file(trash / "files", uid, name=name))
            else:
                self.goes.add(self.file(trash / "files" / name, uid))
                if rng.random() < 0.3:
                    os.mkfifo(trash / "files" / name / "pipe")
            info = trash / "info"
            info.mkdir(exist_ok=True)
            if rng.random() < 0.8:
                note = info / f"{name}.trashinfo"
                note.write_text(f"[Trash Info]\nPath=x\n{rng.choice(notes)}\n", errors="replace")
                os.chown(note, uid, uid)
        self.own(trash / "files", uid)
        if rng.random() < 0.4:
            whole = trash / "files" / "with-documents"
            self.must_survive(self.file(whole, uid, name="beside"))
            self.bind(home / "Documents", whole / "inside")
        if rng.random() < 0.4:
            mixed = trash / "files" / "with-somebody-else's"
            self.must_survive(self.file(mixed / "theirs", 0))
            self.must_survive(self.file(mixed, uid, name="beside"))
        for path in [trash, *trash.rglob("*")]:
            if path.name not in ("theirs",) and path.parent.name != "theirs":
                with suppress(OSError):
                    inside_mount = any(mount in path.parents for mount in self._mounts)
                    if not inside_mount:
                        os.chown(path, uid, uid, follow_symlinks=False)

    def _user_dirs(self, home: Path, uid: int) -> None:
        path = home / ".config/user-dirs.dirs"
        path.parent.mkdir(exist_ok=True)
        form = self.random.randrange(7)
        lines = 'XDG_DESKTOP_DIR="$HOME/Schreibtisch"\nXDG_DOCUMENTS_DIR="$HOME/Dokumente"\n'
        other = self.volume / "home" / ("ben" if uid == ANNA else "anna")
        if form == 0:
            os.mkfifo(path)
        elif form == 1:
            path.symlink_to("/dev/zero")
        elif form == 2:
            path.write_bytes(b'XDG_DOWNLOAD_DIR="$HOME/Schreib\xfftisch"\n')
        elif form == 3:
            path.write_text(lines + 'XDG_DOWNLOAD_DIR="$HOME/Schreibtisch"\n')
        elif form == 4:
            path.write_text(lines + f'XDG_DOWNLOAD_DIR="{other}/Documents"\n')
        elif form == 5:
            path.write_bytes(b"#" * 10**6)
        else:
            path.mkdir()
        if not path.is_symlink():
            os.chown(path, uid, uid)
        (home / "Downloads").mkdir(exist_ok=True)
        os.chown(home / "Downloads", uid, uid)

    def _moved_in(self, home: Path, uid: int) -> None:
        work = home / "Documents/project"
        inside = self.file(work / "old", uid)
        self.own(work / "old", uid)
        target = self._place(home) / "project"

        def move() -> None:
            if not target.exists():
                work.rename(target)
                self.must_survive(target / inside.relative_to(work))

        self._young.append(move)

    def _trashed_now(self, home: Path, uid: int) -> None:
        """What went into the trash just now, with a note that says it was long ago."""
        plan = self.file(home / "Documents/plans", uid)
        trash = home / ".local/share/Trash"

        def throw_away() -> None:
            for part in ("files", "info"):
                self.own(trash / part, uid)
            thing = plan.rename(trash / "files/thrown")
            note = trash / "info/thrown.trashinfo"
            note.write_text("[Trash Info]\nPath=x\nDeletionDate=2020-01-01T00:00:00\n")
            os.chown(note, uid, uid)
            self.must_survive(thing)

        self._young.append(throw_away)

    def _copied_with_times(self, home: Path, uid: int) -> None:
        place = self._place(home)

        def copy() -> None:
            original = next(iter((home / "Documents").iterdir()))
            if original.is_file():
                copied = Path(shutil.copy2(original, place / f"copied-{self._name()[-3:]}"))
                os.utime(copied, (_LONG_AGO, _LONG_AGO))
                os.chown(copied, uid, uid)
                self.must_survive(copied)

        self._young.append(copy)

    def _saved_now(self, home: Path, uid: int) -> None:
        self.must_survive(self.file(self._place(home), uid, old_times=False))

    def _shared(self) -> None:
        """Folders that everybody may write to."""
        for below in ("tmp", "var/tmp"):
            shared = self.desk.system / below
            shared.mkdir(parents=True)
            shared.chmod(0o1777)
            for uid in (0, ANNA, BEN, 4005):
                self.goes.add(self.file(shared, uid))
                self.goes.add(self.file(shared / f"of-{uid}", uid))
                os.chown(shared / f"of-{uid}", uid, uid)
            trap = shared / "of-trap"
            trap.mkdir()
            os.chown(trap, BEN, BEN)
            self.must_survive(self.file(trap, ANNA))
            self.must_survive(self.file(trap, 0))
            (trap / "out").symlink_to(self.volume / "home/anna/Documents")
            private = shared / "systemd-private-1"
            self.must_survive(self.file(private, 0))

    # --- the account -------------------------------------------------------------------------

    def make_young(self) -> None:
        """Everything that came in just now."""
        for make in self._young:
            make()

    def lost(self) -> list[str]:
        """What had to survive and is not what it was."""
        return [
            repr(str(path))
            for path, digest in self.survives.items()
            if not path.is_file() or _digest(path) != digest
        ]

    def stayed(self) -> list[str]:
        """What had to go and is there still."""
        return [repr(str(path)) for path in self.goes if os.path.lexists(path)]


def _set_flag(path: Path, flag: int) -> bool:
    """Set a file's flags (ioctl_iflags(2)); False where the file system has no such."""
    handle = os.open(path, os.O_RDONLY)
    try:
        fcntl.ioctl(handle, 0x40086602, struct.pack("l", flag))
    except OSError:
        return False
    finally:
        os.close(handle)
    return True


def digests(folder: Path) -> set[str]:
    """Of all files below a folder."""
    return {
        _digest(Path(top, name))
        for top, _, names in os.walk(folder)
        for name in names
        if stat.S_ISREG(os.lstat(Path(top, name)).st_mode)
    }


def _digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()
