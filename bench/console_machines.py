"""The page *Machines* of a shop of 5,000 in a real browser: how long until it can be used, what a
chip, a sort and a live event take, how much it draws and holds; against the page *People* of the
same shop (a dozen rows) and against the bare answers of the service. Bounded: it stops by itself.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import httpx
import psutil
from playwright.sync_api import CDPSession, Page, sync_playwright

from phylax.client import Phylax, sign_in
from phylax.core.clients.shop import ClientEdit, MachineEdit, ShopEdit
from phylax.core.ground.machines import System
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.people.accounts import NewPerson, Role
from phylax.service.context.context import system_clock
from phylax.service.serving.serve import FILE, open_shop
from phylax.store.clients import shop
from phylax.store.file.database import Database
from phylax.store.trends import readings

MACHINES = 5_000
PORT = 8798
TURNS = 7
PASSWORD = "four plain words here"
BROWSER = "/usr/bin/chromium"
ARGUMENTS = ("--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-sync")
MIB = 2**20


def main(machines: int = MACHINES) -> None:
    print(f"console_machines: {machines:,} machines, {2 * machines:,} volumes")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _fill(folder, machines)
        words = ("serve", "--data", name, "--port", str(PORT), "--log-level", "error")
        service = subprocess.Popen(
            [sys.executable, "-m", "phylax", *words], stdout=subprocess.DEVNULL
        )
        try:
            _wait()
            _look(f"http://127.0.0.1:{PORT}", machines)
        finally:
            service.terminate()
            service.wait(60)


def _fill(folder: Path, machines: int) -> None:
    owner = NewPerson(login="ines", name="Ines Marrow", role=Role.OWNER, password=PASSWORD)
    open_shop(folder, ShopEdit(name="Bench", zone="Europe/Dublin"), owner)
    now = system_clock()
    database = Database(folder / FILE)
    with database.write() as conn:
        for number in range(0, machines, 10):
            edit = ClientEdit(name=f"Client {number // 10:03d}")
            client = shop.add_client(conn, edit, who="bench", at=0)
            for place in range(number, min(number + 10, machines)):
                made = MachineEdit(
                    tag=f"bench-{place:04d}", client_id=client, system=[*System][place % 3],
                    make="Corrin", model="Slate 15",
                )  # fmt: skip
                machine = shop.add_machine(conn, made, who="bench", at=0)
                listed = [
                    ReadingIn(
                        mount=mount, capacity=10**9, free=(place * 7919 + day * 131) % 10**9,
                        at=now - timedelta(days=day),
                    )
                    for mount in ("C:", "D:") for day in (60, 30, 1)
                ]  # fmt: skip
                readings.add(conn, machine, by_volume(listed))
    database.close()


def _wait() -> None:
    for _ in range(600):
        try:
            httpx.get(f"http://127.0.0.1:{PORT}/api/v2/health")
            return
        except httpx.TransportError:
            time.sleep(0.1)
    raise SystemExit("the service did not start")


def _look(url: str, machines: int) -> None:
    with (
        sync_playwright() as playwright,
        playwright.chromium.launch(executable_path=BROWSER, args=ARGUMENTS) as browser,
    ):
        context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=url)
        signed = {"login": "ines", "password": PASSWORD}
        context.request.post("/api/v2/sign-in", data=signed, headers={"Origin": url})
        few = _opened(context.new_page(), "/shop/people", "table")
        few[0].close()
        page, opened = _opened(context.new_page(), "/machines", "tbody .bar")
        _tell(f"  until rows are drawn: {opened:.0f} ms, people {few[1]:.0f}", opened / few[1])
        _tell_drawn(page, context.new_cdp_session(page))
        bare = _bare(url)
        for name, act, undo in (
            ("a chip", _chip, _chip),
            ("a sort", _sorted_by("client"), _sorted_by("machine")),
            ("words", lambda p: p.locator("#filter").fill("bench-49"),
             lambda p: p.locator("#filter").fill("")),
            ("to the end", lambda p: p.evaluate("scrollTo(0, 1e7)"),
             lambda p: p.evaluate("scrollTo(0, 0)")),
        ):  # fmt: skip
            took = _acted(page, act, undo)
            _tell(f"  {name}: {took:.0f} ms, bare answers {bare:.0f}", took / bare)
        print(f"  a live event asks for: {_live(page, url)}")


def _opened(page: Page, path: str, shown: str) -> tuple[Page, float]:
    """The page, and the median of milliseconds until it shows something, with an empty cache."""
    took = []
    session = page.context.new_cdp_session(page)
    session.send("Network.enable")
    for _ in range(3):
        session.send("Network.clearBrowserCache")
        begun = time.perf_counter()
        page.goto(path, wait_until="commit")
        page.locator(shown).first.wait_for()
        took.append(1000 * (time.perf_counter() - begun))
    return page, statistics.median(took)


def _tell_drawn(page: Page, session: CDPSession) -> None:
    page.wait_for_timeout(1500)
    elements = page.evaluate("document.querySelectorAll('*').length")
    session.send("HeapProfiler.collectGarbage")
    session.send("Performance.enable")
    heap = next(
        metric["value"]
        for metric in session.send("Performance.getMetrics")["metrics"]
        if metric["name"] == "JSHeapUsedSize"
    )
    largest = max(
        child.memory_full_info().uss
        for child in psutil.Process().children(recursive=True)
        if "--type=renderer" in child.cmdline()
    )
    print(f"  {elements:,} elements, {heap / MIB:.0f} MiB of script's heap, "
          f"{largest / MIB:.0f} MiB of the page's process")  # fmt: skip


def _chip(page: Page) -> None:
    page.get_by_role("button", name="linux", exact=True).click()


def _sorted_by(name: str) -> Callable[[Page], None]:
    return lambda page: page.locator("thead").get_by_text(name, exact=True).click()


_SETTLED = """() => new Promise(done => {
  const rows = document.querySelector('[data-testid=machines]');
  const before = rows.innerText, begun = performance.now();
  const look = () => {
    const now = document.querySelector('[data-testid=machines]')?.innerText ?? '';
    if (now !== before && !now.includes('…')) done(performance.now() - begun);
    else if (performance.now() - begun > 20000) done(NaN);
    else requestAnimationFrame(look);
  };
  requestAnimationFrame(look);
})"""


def _acted(page: Page, act: Callable[[Page], object], undo: Callable[[Page], object]) -> float:
    """The median of milliseconds from an act until the rows it asks for are drawn."""
    took = []
    for _ in range(TURNS):
        page.evaluate(f"() => {{ window.settled = ({_SETTLED})(); }}")
        act(page)
        took.append(float(page.evaluate("window.settled")))
        page.wait_for_timeout(300)
        undo(page)
        page.wait_for_timeout(700)
    return statistics.median(took)


def _bare(url: str) -> float:
    """Milliseconds of the two answers that any of these acts waits for."""
    token = sign_in(url, "ines", PASSWORD)
    took = []
    with httpx.Client(headers={"Authorization": f"Bearer {token}"}) as http:
        for _ in range(TURNS):
            begun = time.perf_counter()
            numbers = http.get(
                f"{url}/api/v2/machines/numbers?sort=tightest&descending=true&system=linux"
            ).json()
            http.get(f"{url}/api/v2/machines", params={"machine_id": numbers[:50]})
            took.append(1000 * (time.perf_counter() - begun))
    return statistics.median(took)


def _live(page: Page, url: str) -> str:
    page.evaluate("scrollTo(0, 0)")
    page.wait_for_timeout(1500)
    asked: list[str] = []
    page.on("request", lambda r: asked.append(r.url.partition("/api/v2")[2]))
    tag = page.locator("tbody th a").first.inner_text()
    with Phylax(url, sign_in(url, "ines", PASSWORD)) as owner:
        owner.records.add_note(tag, "bench")
        machine = owner.machines.get(tag)
        owner.machines.change(
            machine,
            MachineEdit(
                tag=tag, client_id=machine.client_id, system=machine.system, note="changed"
            ),
        )
    page.wait_for_timeout(2500)
    return ", ".join(path.partition("?")[0] for path in asked) or "nothing"


def _tell(words: str, ratio: float) -> None:
    print(f"{words}: {ratio:.1f} times")


if __name__ == "__main__":
    main()
