"""The protect list only adds; what it keeps is found whatever the system's way of writing paths."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from phylax.core.catalogue import catalogue
from phylax.core.ground.machines import System
from phylax.core.retention import (
    ProtectEntry,
    Protection,
    ProtectKind,
    Reason,
    Scope,
    in_force,
)
from phylax.core.survey import LineCount, SurveyedItem, covers, merged

FOLDER, PATTERN, SITE = ProtectKind.FOLDER, ProtectKind.PATTERN, ProtectKind.SITE


def protection(*entries: tuple[ProtectKind, str], system: str = "linux") -> Protection:
    return Protection((ProtectEntry(kind=k, pattern=w) for k, w in entries), System(system))


@pytest.mark.parametrize(
    ("kind", "what", "path", "system", "kept"),
    [
        (FOLDER, "/srv/archive", "/srv/archive/1998/a.tif", "linux", True),
        (FOLDER, "/srv/archive", "/srv/archive", "linux", True),
        (FOLDER, "/srv/archive", "/srv/archive-2/a.tif", "linux", False),
        (FOLDER, "/srv/Archive", "/srv/archive/a.tif", "linux", False),
        (FOLDER, "C:\\Archive", "c:\\ARCHIVE\\x\\y.tif", "windows", True),
        (FOLDER, "C:/Archive", "C:\\Archive\\y.tif", "windows", True),
        (FOLDER, "/Users/isla/Plans", "/users/ISLA/plans/keel.dwg", "macos", True),
        (PATTERN, "*.dcm", "/home/anna/Downloads/a/b.dcm", "linux", True),
        (PATTERN, "*.dcm", "/home/anna/b.DCM", "linux", False),
        (PATTERN, "*.dcm", "C:\\b.DCM", "windows", True),
        (PATTERN, "Scans/", "/home/anna/Scans/deep/a.tif", "linux", True),
        (PATTERN, "Scans/", "/home/anna/Scans", "linux", False),
        (PATTERN, "/home/*/Scans/**", "/home/anna/Scans/a.tif", "linux", True),
        (PATTERN, "/home/*/Scans/**", "/srv/home/anna/Scans/a.tif", "linux", False),
        (PATTERN, "C:/Users/*/Keep/**", "C:\\Users\\bram\\Keep\\a", "windows", True),
        (PATTERN, "a[0-9].log", "/var/log/a7.log", "linux", True),
        (PATTERN, "*.odt", "/home/anna/a\\b.odt", "linux", True),
    ],
)
def test_folders_and_patterns(
    kind: ProtectKind, what: str, path: str, system: str, kept: bool
) -> None:
    found = protection((kind, what), system=system)
    assert found.keeps(path) is kept
    assert (found.why(path) is not None) is kept


@pytest.mark.parametrize(
    ("site", "host", "kept"),
    [
        ("tickets.example", "tickets.example", True),
        ("tickets.example", ".Tickets.Example", True),
        ("tickets.example", "www.tickets.example", True),
        ("tickets.example", "nottickets.example", False),
        ("www.tickets.example", "tickets.example", False),
    ],
)
def test_a_site_keeps_itself_and_what_lies_under_it(site: str, host: str, kept: bool) -> None:
    found = protection((SITE, site))
    assert (found.why_site(host) is not None) is kept
    assert not found.guards_files


@pytest.mark.parametrize(
    ("kind", "what", "complaint"),
    [
        (FOLDER, "archive", "not a whole path"),
        (FOLDER, "/srv/../etc", "without '..'"),
        (FOLDER, "/srv/a\0b", "holds a NUL"),
        (PATTERN, "a\\", "is not a pattern"),
        (PATTERN, "[b-a]x", "is not a pattern"),
        (PATTERN, "!*.dcm", "only adds"),
        (PATTERN, "# a remark", "stands for nothing"),
        (PATTERN, "*", "would protect everything"),
        (PATTERN, "**", "would protect everything"),
        (SITE, "https://tickets.example/", "is not a site's name"),
        (SITE, "tickets.example/a", "is not a site's name"),
        (SITE, "*.example", "is not a site's name"),
    ],
)
def test_an_entry_that_cannot_be_meant_is_refused(
    kind: ProtectKind, what: str, complaint: str
) -> None:
    with pytest.raises(ValidationError, match=complaint):
        ProtectEntry(kind=kind, pattern=what)


NAMES = st.text("abAB.*?[]!/\\ -", min_size=1, max_size=12)


def entry(kind: ProtectKind, what: str) -> ProtectEntry | None:
    try:
        return ProtectEntry(kind=kind, pattern=what)
    except ValidationError:
        return None


ENTRIES = st.lists(
    st.tuples(st.sampled_from([FOLDER, PATTERN]), st.one_of(NAMES, NAMES.map("/".__add__)))
).map(lambda said: [e for k, w in said if (e := entry(k, w)) is not None])


@given(ENTRIES, ENTRIES, NAMES.map("/home/".__add__))
def test_a_nearer_list_never_opens_what_a_farther_one_protects(
    shop: list[ProtectEntry], machine: list[ProtectEntry], path: str
) -> None:
    if Protection(shop, System.LINUX).keeps(path):
        assert Protection([*shop, *machine], System.LINUX).keeps(path)


def test_the_entry_named_is_the_one_that_protects() -> None:
    found = protection((PATTERN, "*.tif"), (FOLDER, "/srv/archive"), (SITE, "a.example"))
    by = found.why("/srv/x/a.tif")
    assert by is not None and by.pattern == "*.tif"
    assert found.why("/srv/x/a.odt") is None
    inside = found.why_inside("/srv")
    assert inside is not None and inside.pattern == "/srv/archive"
    assert found.why_inside("/srv/archive/deep") is None
    assert found.why_folder("/srv/archive/deep") and not found.why_folder("/srv/x")


@pytest.mark.parametrize(
    ("kind", "what", "path"),
    [
        (FOLDER, "/srv//archive/./scans/", "/srv/archive/scans/a.tif"),
        (FOLDER, "/srv/a\nb", "/srv/a\nb/file"),
        (PATTERN, "**/scans/**", "/home/scans/a\nb/c\nd"),
        (PATTERN, "*.tif", "/home/a\nb.tif"),
    ],
)
def test_entries_and_names_may_hold_anything(kind: ProtectKind, what: str, path: str) -> None:
    protection = Protection([ProtectEntry(kind=kind, pattern=what)], System.LINUX)
    assert protection.keeps(path)


def test_what_each_entry_kept_is_summed_over_lines_and_a_folder_counts_by_being_there() -> None:
    pattern, folder, site = (
        ProtectEntry(kind=kind, pattern=what)
        for kind, what in ((PATTERN, "*.dcm"), (FOLDER, "/srv/archive"), (SITE, "a.example"))
    )
    count = LineCount(now=1000)
    for name, entry in (("a", pattern), ("b", pattern), ("c", None)):
        count.add(
            SurveyedItem(name, 5, 1, 1, 1, 5, 1, "", Reason.PROTECTED, kept_by=entry), blocked=True
        )
    rule = in_force([(Scope.CATALOGUE, catalogue()["user-temp"].rule)])
    line = count.line("user-temp", "/", rule, capacity=0, free=0)
    found = covers((pattern, folder, site, pattern), merged([line, line]), {folder})
    assert [(c.entry, c.exists, c.kept.count, c.kept.size, c.covers) for c in found] == [
        (pattern, False, 4, 20, True),
        (folder, True, 0, 0, True),
        (site, False, 0, 0, False),
    ]
