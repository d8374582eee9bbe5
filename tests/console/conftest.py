"""A real browser, signed in as the owner, and what it must never do."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from conftest import Service
from helpers import PASSWORD, enrol, make_file, make_standin
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.service.context.context import system_clock

ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip


# Whole pages at once; that only what is near is drawn at first is tried in test_asking.
ALL_IN_SIGHT = """window.IntersectionObserver = class {
  constructor(tell) { this.tell = tell; }
  observe(target) { setTimeout(() => this.tell([{ target, isIntersecting: true }], this)); }
  unobserve() {} disconnect() {} takeRecords() { return []; }
};"""

# a machine that is busy with other things is slow, not wrong
expect.set_options(timeout=60_000)


@pytest.fixture
def clock() -> Callable[[], datetime]:
    """Agents and browsers go by the real clock, so the service does too."""
    return system_clock


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium-headless-shell", args=ARGUMENTS
        )
        yield browser
        browser.close()


@pytest.fixture
def page(browser: Browser, service: Service) -> Iterator[Page]:
    """Signed in as the owner; fails on script errors and on any request to another host."""
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=service.url, reduced_motion="reduce"
    )
    page = context.new_page()
    page.set_default_timeout(90_000)
    page.add_init_script(ALL_IN_SIGHT)
    trouble: list[str] = []
    page.on("pageerror", lambda error: trouble.append(str(error)))
    page.on(
        "request",
        lambda r: None if r.url.startswith((service.url, "data:")) else trouble.append(r.url),
    )
    # as the page of signing in does it; that itself is tried where signing in is tested
    answer = context.request.post(
        "/api/v2/sign-in",
        data={"login": "ines", "password": PASSWORD},
        headers={"Origin": service.url},
    )
    assert answer.ok, answer.text()
    yield page
    context.close()
    assert trouble == []


@pytest.fixture
def today(page: Page) -> Page:
    """The same, with *Today* open."""
    page.goto("/")
    expect(page.get_by_test_id("sentence")).to_be_visible()
    return page


@pytest.fixture
def home(tmp_path: Path) -> Path:
    home = make_standin(tmp_path / "m", items_per_second=60)
    for number in range(120):
        make_file(home / f".tmp/f{number:03d}", 1_000_000, days_old=3)
    make_file(home / "Downloads/keep.pdf", 5_000_000, days_old=300)
    make_file(home / "Downloads/let-go.iso", 9_000_000, days_old=300)
    return home


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, home: Path) -> Iterator[None]:
    enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m").once()
    process = subprocess.Popen(
        [sys.executable, "-m", "phylax", "agent", "start", "--data", str(tmp_path / "agent")],
        stderr=subprocess.DEVNULL,
    )
    yield
    process.terminate()
    process.wait(timeout=60)
