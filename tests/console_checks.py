"""Whether a page is fit for everyone, as axe-core sees it; slow typing; a volume that is full."""

from __future__ import annotations

import json
from datetime import timedelta
from pathlib import Path

from playwright.sync_api import Locator, Page

from conftest import Service
from phylax.core.clients.shop import Machine
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.service.attention import monitor
from phylax.store.trends import readings

AXE = Path(__file__).parents[1] / "console/node_modules/axe-core/axe.min.js"


def check_for_everyone(page: Page, where: str, modes: tuple[str, ...] = ("light", "dark")) -> None:
    """No finding of axe-core, by day and by night."""
    for mode in modes:
        page.evaluate(f"document.documentElement.dataset.mode = '{mode}'")
        # run by the protocol, not as a script of the page, which its policy would refuse
        page.evaluate(AXE.read_text(encoding="utf-8") + "; undefined")
        found = page.evaluate(
            "axe.run(document, {resultTypes: ['violations'],"
            " rules: {'target-size': {enabled: true}}})"
        )
        findings = [(v["id"], [n["target"] for n in v["nodes"]][:3]) for v in found["violations"]]
        assert findings == [], f"{where}, {mode}: {json.dumps(findings)}"
    page.evaluate("document.documentElement.dataset.mode = 'light'")


def write(field: Locator, text: str) -> None:
    """Fill the first field after a page opened; once more where the browser, starved of time, was
    not yet listening. That it stays filled is for the test to see."""
    field.fill(text)
    if field.input_value() != text:
        field.fill(text)
    assert field.input_value() == text


def fill(service: Service, machine: Machine) -> None:
    """Its volume is nearly full from now on."""
    with service.context.db.write() as conn:
        for hour in range(3):
            at = service.context.clock() - timedelta(hours=hour)
            reading = ReadingIn(mount="/", capacity=100 * 2**30, free=2**30, at=at)
            readings.add(conn, machine.id, by_volume([reading]))
    monitor.whole(service.context)
