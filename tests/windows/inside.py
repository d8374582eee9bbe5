"""What the Windows Python itself checks: `python -m windows.inside NAME`. No pytest there."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

SCRATCH = "C:\\scratch"


def main() -> None:
    checks: dict[str, Callable[[], None]] = {
        name: check for name, check in globals().items() if callable(check)
    }
    checks[sys.argv[1]]()


@contextmanager
def refused(kind: type[OSError]) -> Iterator[None]:
    try:
        yield
    except kind:
        return
    raise AssertionError(f"{kind.__name__} was expected")


@contextmanager
def scratch() -> Iterator[int]:
    from phylax.agent import files

    shutil.rmtree(SCRATCH, ignore_errors=True)
    os.makedirs(f"{SCRATCH}\\a\\b")
    handle = files.open_top(SCRATCH)
    yield handle
    files.close(handle)


def write(below: str, text: str = "x") -> str:
    path = f"\\\\?\\{SCRATCH}\\{below}"
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w", encoding="utf-8") as file:
        file.write(text)
    return path


def names_are_opened_in_their_folder_only() -> None:
    from phylax.agent import files

    with scratch() as top:
        write("outside.txt")
        inner = files.open_folder("a", top)
        for name in ("..", ".", "", "..\\outside.txt", "b\\..\\..", "C:", "b:stream", "b/..", "b."):
            with refused(OSError):
                files.close(files.open_folder(name, inner))
            with refused(OSError):
                files.unlink(name, inner)
        with refused(OSError):
            files.move("b", inner, "..\\b", top)
        files.close(inner)
        assert os.path.exists(f"{SCRATCH}\\outside.txt")


def a_file_in_use_stays_and_the_system_says_so() -> None:
    from phylax.agent import files

    with scratch() as top:
        with open(write("open.txt"), encoding="utf-8"):
            try:
                files.unlink("open.txt", top)
            except OSError as error:
                assert files.is_in_use(error), error
            else:
                raise AssertionError("a file in use was removed")
        files.unlink("open.txt", top)
        assert files.names(top) == ["a"]


def read_only_files_go_and_folders_that_hold_something_stay() -> None:
    from phylax.agent import files

    with scratch() as top:
        os.chmod(write("locked.txt"), 0o400)
        files.unlink("locked.txt", top)
        write("a\\b\\kept.txt")
        inner = files.open_folder("a", top)
        with refused(OSError):
            files.rmdir("b", inner)
        files.close(inner)
        assert os.path.exists(f"{SCRATCH}\\a\\b\\kept.txt")


def moving_never_overwrites() -> None:
    from phylax.agent import files

    with scratch() as top:
        write("one.txt", "one")
        write("two.txt", "two")
        with refused(FileExistsError):
            files.move("one.txt", top, "TWO.TXT", top)
        inner = files.open_folder("a", top)
        files.move("one.txt", top, "else.txt", inner)
        assert files.read("else.txt", inner, 9) == b"one"
        assert files.look("ELSE.txt", inner).st_size == 3
        files.close(inner)


def long_paths_and_odd_names_are_walked_and_removed() -> None:
    from phylax.agent import files
    from phylax.agent.files.walk import remove_tree, walk

    with scratch() as top:
        deep = "\\".join(["a" * 60] * 8)
        write(f"{deep}\\naïve ☕.txt")
        complaints: list[str] = []
        found = [
            name
            for folder in walk(top, lambda path, why: complaints.append(path))
            for name, _ in folder.files
        ]
        assert found == ["naïve ☕.txt"], found
        assert remove_tree("a" * 60, top, lambda path, why: complaints.append(path))
        assert complaints == [] and files.names(top) == ["a"]


def a_link_or_junction_is_never_followed_moved_or_removed() -> None:
    """What is shown as a link here was put there by the test outside."""
    from phylax.agent import files

    top = files.open_top(SCRATCH)
    assert "link" in files.names(top), files.names(top)
    for plain, folders in files.portions(top, 100):
        assert "link" not in folders and "link" not in [name for name, _ in plain]
    with refused(OSError):
        files.close(files.open_folder("link", top))
    files.close(top)


def the_guard_knows_no_case() -> None:
    from phylax.agent.config.guard import Guard
    from phylax.agent.machines.windows import WindowsMachine

    machine = WindowsMachine(["C:"])
    guard = Guard(machine)
    windows = os.environ["SYSTEMROOT"]
    for path in (
        windows,
        windows.upper(),
        windows.swapcase(),
        f"{windows}\\System32",
        "C:\\",
        "c:\\",
    ):
        assert guard.why_forbidden(path), path
    home = os.environ["USERPROFILE"]
    for path in (home, home.upper(), f"{home}\\DOCUMENTS", f"{home}\\documents\\x"):
        assert guard.why_forbidden(path), path
    assert guard.why_forbidden(f"{windows}\\Temp") is None
    assert guard.why_forbidden(f"{home}\\Downloads") is None


def it_steps_back() -> None:
    import psutil

    from phylax.agent.runtime.commands import step_back

    step_back()
    assert psutil.Process().nice() == psutil.BELOW_NORMAL_PRIORITY_CLASS


if __name__ == "__main__":
    main()
