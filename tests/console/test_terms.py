"""What a word means is said where it stands, in the glossary's words."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from console_checks import check_for_everyone

ROOT = Path(__file__).parents[2]
ROW = re.compile(r"^\| (\*\*.+?\*\*.*?) \| (.+) \|$", re.MULTILINE)


def glossary() -> dict[str, str]:
    """Each word with the meaning of its row."""
    text = (ROOT / "docs/glossary.md").read_text()
    return {
        word: meaning
        for words, meaning in ROW.findall(text)
        for word in re.findall(r"\*\*(.+?)\*\*", words)
    }


def test_every_word_that_is_explained_is_in_the_glossary() -> None:
    used = {
        of
        for page in (ROOT / "console/src").rglob("*.svelte")
        for of in re.findall(r'<Term\s+of="([^"]+)"', page.read_text())
    }
    assert len(used) > 15
    assert used <= glossary().keys(), used - glossary().keys()


def test_a_words_meaning_comes_by_pointer_and_by_key_and_goes_again(page: Page) -> None:
    # a page of which nothing comes later and moves the word away from under the pointer
    page.goto("/routines")
    expect(page.get_by_text("Light weekly").first).to_be_visible()
    page.wait_for_load_state("networkidle")
    word = page.get_by_role("button", name="Routines", exact=True)
    tip = page.get_by_role("tooltip")
    word.hover()
    expect(tip).to_have_text(
        "routine: an ordered list of steps (survey, clean, by hand …) with a name"
    )
    # the pointer may go to what it says
    tip.hover()
    page.wait_for_timeout(500)
    expect(tip).to_be_visible()
    page.mouse.move(5, 5)
    expect(tip).to_have_count(0)

    word.focus()
    expect(tip).to_be_visible()
    expect(word).to_have_attribute("aria-describedby", tip.get_attribute("id") or "none")
    check_for_everyone(page, "a page with a word explained")
    page.keyboard.press("Escape")
    expect(tip).to_have_count(0)
    expect(word).to_be_focused()
    page.keyboard.press("Tab")
    expect(word).not_to_be_focused()
    expect(tip.filter(has_text="routine:")).to_have_count(0)
