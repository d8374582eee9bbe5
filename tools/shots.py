"""Takes the pictures in docs/screenshots from the demo's data: the console in Chromium, the command
line in a terminal window under Xvfb. The demo is made anew beside the usual one and ended after."""

from __future__ import annotations

import os
import shlex
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from phylax.demo.live import restart

ROOT = Path(__file__).parents[1]
SHOTS = ROOT / "docs/screenshots"
SIZE = {"width": 1280, "height": 800}
ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip
DISPLAY = ":87"
TERMINAL = {
    "cli-today": "phylax today",
    "cli-clean": "phylax run clean oakes-laptop user-temp trash web-cache --yes",
}


def main() -> None:
    SHOTS.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder, _demo(Path(folder) / "demo") as (url, token):
        _console(url, token.parent)
        _terminal(url, token)
        _figure(url, token)
    print(f"{len(list(SHOTS.glob('*.png')))} pictures in {SHOTS.relative_to(ROOT)}")


@contextmanager
def _demo(data: Path) -> Iterator[tuple[str, Path]]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    words = [sys.executable, "-m", "phylax", "demo", "--data", str(data), "--port", str(port)]
    process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    while "Ctrl-C" not in process.stdout.readline():
        assert process.poll() is None, "the demo did not start"
    try:
        yield f"http://127.0.0.1:{port}", data / "owner.token"
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(timeout=20)


def _console(url: str, data: Path) -> None:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium-headless-shell", args=ARGUMENTS
        )
        page = browser.new_context(viewport=SIZE, base_url=url, locale="en-IE").new_page()
        # pictures show a working day, not the first minute
        page.add_init_script("localStorage.setItem('phylax-tour', 'ended')")
        # on a busy machine the living ones take their time too
        page.set_default_timeout(90_000)
        page.goto("/")
        page.get_by_label("Login").fill("ines")
        page.get_by_label("Password").fill("quayside-demo")
        page.keyboard.press("Enter")
        page.get_by_test_id("sentence").wait_for()
        _shoot(page, "today")
        page.goto("/machines")
        page.get_by_test_id("machines").wait_for()
        page.get_by_role("button", name="Columns").wait_for()
        _shoot(page, "machines")
        _one_machine(page)
        page.goto("/rules")
        page.get_by_role("row").filter(has_text="Trash").get_by_role(
            "button", name="Change"
        ).click()
        page.get_by_label("Keep for days").fill("30")
        page.get_by_test_id("what-if").get_by_role("table").wait_for()
        _shoot(page, "rules")
        _tuned(page, data)
        page.goto("/rounds")
        page.get_by_test_id("agenda").wait_for()
        _shoot(page, "agenda")
        page.locator("a[href^='/runs/']").filter(has_text="library-3").first.click()
        page.get_by_test_id("steps").wait_for()
        _shoot(page, "bench")
        page.goto("/visits")
        page.get_by_role("heading", name="Waiting for us").wait_for()
        _shoot(page, "visits")
        page.goto("/visits/3/slip")
        page.get_by_test_id("slip").get_by_role("img").nth(1).wait_for()
        _shoot(page, "slip")
        page.goto("/reports/new?machine=1")
        page.get_by_label("First day").fill("2026-09-01")
        page.get_by_test_id("report").get_by_role("table").first.wait_for()
        _shoot(page, "report")
        page.goto("/rounds/new?machine=museum-kiosk")
        page.get_by_label("Name", exact=True).fill("Kiosk, weekly")
        page.get_by_test_id("next-dates").locator("li").first.wait_for()
        _shoot(page, "round")
        page.get_by_role("button", name="Light ,").click()
        page.get_by_role("button", name="Light ,").click()
        page.goto("/clients/import")
        page.get_by_label("The list").set_input_files(
            {"name": "machines-2019.csv", "mimeType": "text/csv", "buffer": _LIST.encode()}
        )
        page.get_by_test_id("lines").get_by_role("row").nth(6).wait_for()
        _shoot(page, "import-night")
        browser.close()


_LIST = """Client;Computer;OS;Serial no.;RAM;Bought;Remark
Kelpie Boatyard;Boatyard Office;Windows 10 Pro;KB-40017;7,8 GB;03.05.2019;by the slip
Kelpie  Boatyard ;boatyard-office;Win 10;;8;;
Tidewrack Pottery;;macOS 14;TP-2217;16 GB;2021;in the glaze room
Harbour Choir archive;choir-scanner;Linux;Default string;4096 MB;2016;
Saltmarsh Primary School library;=A2&"-5";Windows 7;SM-0005;4;2014;
Gannet Row Veterinary Practice;vet-front;Windows 11;GR-1001;16 GB;2022;front desk
;spare-1;Linux;SP-1;8 GB;;nobody's
"""


def _open_whole(page: Page, path: str) -> None:
    """Open a page and touch it, so that its far parts are drawn."""
    page.goto(path)
    page.locator("h1").wait_for()
    page.mouse.move(640, 400)
    page.mouse.move(5, 5)


def _tuned(page: Page, data: Path) -> None:
    """Startup programs, and what a change of it came to after some starts."""
    _open_whole(page, "/machines/oakes-laptop")
    page.get_by_test_id("programs-stays").wait_for()
    page.evaluate("document.querySelector('#tuning').scrollIntoView()")
    _shoot(page, "startup-programs")
    page.get_by_test_id("installed").wait_for()
    page.evaluate("document.querySelector('#updates').scrollIntoView()")
    _shoot(page, "upkeep")
    page.get_by_test_id("programs-no answer yet").get_by_role("button", name="says no").click()
    page.get_by_test_id("programs-changes").get_by_text("Word finder").wait_for()
    page.get_by_role("button", name="Change…", exact=True).click()
    page.get_by_test_id("change-dialogue").get_by_role("checkbox").nth(0).uncheck()
    page.get_by_role("button", name="Change 1 program").click()
    page.get_by_test_id("starts").wait_for(timeout=90_000)
    restart(data, "oakes-laptop", 8)
    page.get_by_text("It helped").wait_for(timeout=90_000)
    page.evaluate("document.querySelector('[data-testid=changes]').scrollIntoView()")
    page.mouse.wheel(0, -120)
    _shoot(page, "trial")


def _one_machine(page: Page) -> None:
    _open_whole(page, "/machines/choir-server")
    page.get_by_test_id("ledger").wait_for()
    _shoot(page, "machine")
    page.get_by_test_id("ledger").get_by_role("button", name="needs approval").first.click()
    page.get_by_role("button", name="Tick what the rule proposes").click()
    _shoot(page, "listing")
    page.get_by_role("button", name="Use this selection").click()
    page.get_by_test_id("ledger").scroll_into_view_if_needed()
    _shoot(page, "cleanup")
    page.get_by_role("button", name="Clean…").click()
    page.get_by_placeholder("asked by phone").fill("asked by phone")
    page.get_by_role("button", name="Clean now").click()
    page.get_by_test_id("result").wait_for(timeout=60_000)


def _shoot(page: Page, name: str) -> None:
    page.wait_for_timeout(900)
    page.screenshot(path=SHOTS / f"{name}.png")


def _terminal(url: str, token: Path) -> None:
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"])
    try:
        time.sleep(1)
        for name, command in TERMINAL.items():
            _shoot_terminal(name, command, url, token)
    finally:
        screen.terminate()
        screen.wait()


def _figure(url: str, token: Path) -> None:
    words = ["trend", "draw", "ferry-tickets", str(SHOTS / "trend-picture.png")]
    env = os.environ | {"PHYLAX_URL": url, "PHYLAX_TOKEN_FILE": str(token)}
    subprocess.run([sys.executable, "-m", "phylax", *words], check=True, env=env)


def _shoot_terminal(name: str, command: str, url: str, token: Path) -> None:
    env = os.environ | {
        "DISPLAY": DISPLAY,
        "PHYLAX_URL": url,
        "PHYLAX_TOKEN_FILE": str(token),
        "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
        "LC_ALL": "C.UTF-8",
    }
    script = f"echo '$ '{shlex.quote(command)}; {command}; touch {token}.{name}; sleep 60"
    window = subprocess.Popen(
        ["xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "157x46+0+0", "-bg",
         "#10191c", "-fg", "#e6ece8", "-b", "12", "+sb", "-e", "sh", "-c", script],
        env=env,
    )  # fmt: skip
    try:
        done = token.with_name(f"{token.name}.{name}")
        for _ in range(300):
            if done.exists():
                break
            time.sleep(0.1)
        time.sleep(0.5)
        subprocess.run(
            [shutil.which("import") or "import", "-window", "root", str(SHOTS / f"{name}.png")],
            check=True, env=env,
        )  # fmt: skip
    finally:
        window.terminate()
        window.wait()


if __name__ == "__main__":
    main()
