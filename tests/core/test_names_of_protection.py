"""A name is protected by what people read, not by how its bytes happen to be written."""

from __future__ import annotations

import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.ground.machines import System
from phylax.core.retention import ProtectEntry, Protection, ProtectKind

NAMES = ("Büro", "Ångström", "Việt Nam", "한글", "Škoda", "naïve café")


def forms(name: str) -> tuple[str, str]:
    return unicodedata.normalize("NFC", name), unicodedata.normalize("NFD", name)


@pytest.mark.parametrize("system", list(System))
@pytest.mark.parametrize("name", NAMES)
def test_a_folder_and_a_pattern_hold_in_either_form(system: System, name: str) -> None:
    for written in forms(name):
        for stored in forms(name):
            folder = ProtectEntry(kind=ProtectKind.FOLDER, pattern=f"/srv/{written}")
            pattern = ProtectEntry(kind=ProtectKind.PATTERN, pattern=f"*{written}.tif")
            protection = Protection([folder, pattern], system)
            assert protection.why(f"/srv/{stored}/letter") is folder
            assert protection.why_folder(f"/srv/{stored}") is folder
            assert protection.why_inside("/srv") is folder
            assert protection.why(f"/home/anna/scan {stored}.tif") is pattern
            assert protection.why(f"/srv/{stored}x/letter") is None


@given(st.text(st.characters(exclude_characters="\0/\\", codec="utf-8"), min_size=1, max_size=9))
def test_whatever_the_name(name: str) -> None:
    if name in (".", ".."):
        return
    entry = ProtectEntry(kind=ProtectKind.FOLDER, pattern=f"/srv/{name}/x")
    protection = Protection([entry], System.LINUX)
    for form in ("NFC", "NFD"):
        assert protection.why(f"/srv/{unicodedata.normalize(form, name)}/x/letter") is entry


@pytest.mark.parametrize(
    ("what", "host"),
    [
        ("münchen.example", "xn--mnchen-3ya.example"),
        ("mu\N{COMBINING DIAERESIS}nchen.example", "login.xn--mnchen-3ya.example"),
        ("xn--mnchen-3ya.example", "münchen.example"),
        ("München.Example", "xn--mnchen-3ya.example"),
        ("straße.example", "xn--strae-oqa.example"),
        ("straße.example", "strasse.example"),
        ("пример.example", "xn--e1afmkfd.example"),
        ("例え.example", "xn--r8jz45g.example"),
    ],
)
def test_a_site_holds_as_people_write_it_and_as_browsers_note_it(what: str, host: str) -> None:
    entry = ProtectEntry(kind=ProtectKind.SITE, pattern=what)
    protection = Protection([entry], System.LINUX)
    assert protection.why_site(host) is entry
    assert protection.why_site("other.example") is None


@pytest.mark.parametrize("what", ["https://x.example", "a b.example", "x..example", "ü/x", "-"])
def test_what_is_no_site_is_refused(what: str) -> None:
    with pytest.raises(ValueError, match="is not a site's name"):
        ProtectEntry(kind=ProtectKind.SITE, pattern=what)
