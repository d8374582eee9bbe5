"""Whatever lies in a temporary folder: what the survey promised goes, all else stays, and a link
swapped in at the worst moment leads nowhere."""

import os
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from engine import Bench, ByContents
from helpers import make_file
from phylax.agent.files.walk import Folder, sweep, walk

NAMES = st.text("abAB.-ü \n", min_size=1, max_size=6).filter(lambda n: n not in (".", ".."))
ENTRIES = st.lists(
    st.tuples(
        st.lists(NAMES, min_size=1, max_size=3),
        st.integers(0, 5000),
        st.sampled_from([0.0, 0.5, 0.99, 1.01, 3.0, 400.0]),
        st.sampled_from(["file", "link", "open", "twin"]),
    ),
    max_size=12,
)


class Tree:
    """A made-up tree, and what ought to become of each of its files."""

    def __init__(self, home: Path, entries: list[tuple[list[str], int, float, str]]) -> None:
        self.stays: set[Path] = set()
        self.goes: set[Path] = set()
        self.handles: list = []
        for folders, size, days, kind in entries:
            path = home.joinpath(".tmp", *folders)
            if any(p.is_file() or p.is_symlink() for p in (path, *path.parents)) or path.exists():
                continue
            self._make(home, path, size, days, kind)

    def _make(self, home: Path, path: Path, size: int, days: float, kind: str) -> None:
        if kind == "link":
            path.parent.mkdir(parents=True, exist_ok=True)
            path.symlink_to(home / "Documents")
            at = make_file(home / "clock", days_old=days).stat().st_mtime
            os.utime(path, (at, at), follow_symlinks=False)
        else:
            make_file(path, size, days_old=days)
        if kind == "open":
            self.handles.append(path.open())
        if kind == "twin" and not path.with_name(path.name + "~").exists():
            twin = path.with_name(path.name + "~")
            os.link(path, twin)
            (self.goes if days > 1 else self.stays).add(twin)
        (self.goes if days > 1 and kind != "open" else self.stays).add(path)

    def close(self) -> None:
        for handle in self.handles:
            handle.close()


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(entries=ENTRIES)
def test_exactly_what_the_survey_promised_goes(
    tmp_path_factory: pytest.TempPathFactory, entries: list
) -> None:
    folder = tmp_path_factory.mktemp("tree")
    home = folder / "anna"
    letter = make_file(home / "Documents/letter.odt", 123, days_old=900)
    tree = Tree(home, entries)
    (folder / "runs").mkdir()
    bench = Bench(ByContents([str(home)]), folder / "runs")
    line = bench.look("user-temp")
    again = bench.look("user-temp")
    outcome, cleaner = bench.clean("user-temp")
    tree.close()
    # but for the space that others take and free on the volume meanwhile
    looks = [one and one.model_copy(update={"free": 0}) for one in (line, again)]
    assert looks[0] == looks[1], "a survey changes nothing, and the digest is that of the listing"
    assert {p for p in tree.stays | tree.goes if os.path.lexists(p)} == tree.stays
    assert letter.read_bytes() == b"x" * 123
    assert outcome.removed.count == len(tree.goes)
    assert not cleaner.outcomes.problems
    if line is not None:
        # a file with two names is counted once in a survey, and both its names go
        twins = sum(p.name.endswith("~") for p in tree.goes)
        assert line.removable.count == len(tree.goes) - twins


def swap(folder: Path, target: Path) -> None:
    """What somebody on the machine can do at the worst moment: a link in a folder's place."""
    folder.rename(folder.with_name(f"{folder.name}-aside"))
    folder.symlink_to(target)


@pytest.mark.parametrize("steps", [walk, sweep])
def test_a_folder_swapped_for_a_link_between_look_and_deed_is_not_entered(
    tmp_path: Path, steps: Callable
) -> None:
    letter = make_file(tmp_path / "Documents/letter.odt")
    for name in ("a", "b"):
        make_file(tmp_path / "tmp" / name / "file")
    root = os.open(tmp_path / "tmp", os.O_RDONLY)
    complaints: list[str] = []
    seen: list[str] = []
    for folder in steps(root, lambda path, why: complaints.append(path)):
        listed = folder.files if isinstance(folder, Folder) else folder.names
        seen += [one if isinstance(one, str) else one[0] for one in listed]
        for other in {"a", "b"} - {folder.path}:
            path = tmp_path / "tmp" / other
            if len(seen) <= 1 and not path.is_symlink():
                swap(path, tmp_path / "Documents")
    os.close(root)
    assert letter.name not in seen and complaints


def test_a_folder_swapped_for_a_link_while_cleaning_leads_nowhere(tmp_path: Path) -> None:
    home = tmp_path / "anna"
    letters = [make_file(home / f"Documents/letter-{n}", days_old=99) for n in range(3)]
    folders = [home / ".tmp/a", home / ".tmp/b"]
    for folder in folders:
        make_file(folder / "file", days_old=99)
    (tmp_path / "runs").mkdir()

    def meddle(*told: object) -> None:
        for folder in folders:
            if (folder / "file").exists() and not folder.is_symlink():
                swap(folder, home / "Documents")

    outcome, _ = Bench(ByContents([str(home)]), tmp_path / "runs").clean("user-temp", watch=meddle)
    assert all(letter.exists() for letter in letters)
    assert outcome.removed.count == 1 and outcome.unread_count == 1


def test_a_look_ages_by_days_up_to_eight_hundred(tmp_path: Path) -> None:
    home = tmp_path / "anna"
    for days in (0, 1, 40, 799, 2000):
        make_file(home / f".tmp/{days}", 4096, days_old=days + 0.01)
    (tmp_path / "runs").mkdir()
    line = Bench(ByContents([str(home)]), tmp_path / "runs").look(
        "user-temp", keep_for=timedelta(days=30)
    )
    assert line is not None
    assert [age.day for age in line.ages] == [0, 1, 40, 799, 800]
    assert line.removable.count == 3
