"""The policy by which a browser forgets what it need not keep, tried in a real one."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest
from playwright.sync_api import sync_playwright

from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.runtime.settings_run import SettingsRun
from phylax.core.protocol import ChangeSettingsOrder, PutSettingsBackOrder
from phylax.core.retention import ProtectEntry, ProtectKind
from phylax.core.tuning.changes import ChangeMade, ChangeState, WantedValue
from startup_trees import add_file, picture

MANAGED = "etc/chromium/policies/managed"
OURS = f"{MANAGED}/90-phylax-closing.json"


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "root"
    add_file(root, "usr/bin/chromium", "", 0o755)
    add_file(root, "etc/chromium/master_preferences", "{}")
    return root


def change(root: Path, value: bool, *keeps: str, run_id: int = 1) -> ChangeMade:
    machine = LinuxMachine(root=str(root), system_bus="unix:path=/nonexistent")
    order = ChangeSettingsOrder(
        run_id=run_id, lease="l",
        values=(WantedValue(setting="browser-closing", previous=not value, value=value),),
        protect=tuple(ProtectEntry(kind=ProtectKind.SITE, pattern=site) for site in keeps),
    )  # fmt: skip
    (made,) = SettingsRun(machine, root.parent / "journal", frozenset()).change(order)
    return made


def back(root: Path, made: ChangeMade) -> ChangeMade:
    assert made.id is not None, made.refused
    machine = LinuxMachine(root=str(root), system_bus="unix:path=/nonexistent")
    order = PutSettingsBackOrder(run_id=9, lease="l", changes=(made.id,))
    (told,) = SettingsRun(machine, root.parent / "journal", frozenset()).put_back(order)
    return told


def test_it_is_set_with_the_shops_kept_sites_and_put_back(root: Path) -> None:
    before = picture(root)
    made = change(root, True, "bank.example", "ferry.example")
    assert made.refused == ""
    assert json.loads((root / OURS).read_text()) == {
        "DefaultCookiesSetting": 4,
        "CookiesAllowedForUrls": ["[*.]bank.example", "[*.]ferry.example"],
    }
    assert (root / OURS).stat().st_mode & 0o777 == 0o644, "every person's browser reads it"
    assert back(root, made).state is ChangeState.PUT_BACK
    assert picture(root) == before


@pytest.mark.parametrize("says", ['{"DefaultCookiesSetting": 1}', '{"CookiesAllowedForUrls": []}'])
def test_an_administrators_own_policy_is_left(root: Path, says: str) -> None:
    add_file(root, f"{MANAGED}/school.json", says)
    before = picture(root)
    assert "administrator's own file" in change(root, True).refused
    assert picture(root) == before


@pytest.mark.parametrize("says", ["not json", "[]", '{"HomepageLocation": "http://a.example"}', ""])
def test_other_policies_are_no_hindrance(root: Path, says: str) -> None:
    add_file(root, f"{MANAGED}/school.json", says)
    assert change(root, True).refused == ""


def test_a_machine_without_such_a_browser_has_no_such_setting(root: Path) -> None:
    (root / "usr/bin/chromium").unlink()
    assert change(root, True).refused == "not there"


class _Site(BaseHTTPRequestHandler):
    """Says which cookie it was sent, and gives one that lasts a year."""

    def do_GET(self) -> None:
        self.send_response(200)
        if self.path == "/give":
            self.send_header("Set-Cookie", "who=anna; Max-Age=31536000")
        self.end_headers()
        self.wfile.write((self.headers["Cookie"] or "nobody").encode())

    def log_message(self, *args: object) -> None:
        """Quiet."""


@pytest.fixture
def port() -> Iterator[int]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Site)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    try:
        yield server.server_port
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


def visit(browser: Path, profile: Path, port: int, page: str) -> dict[str, str]:
    """What two sites know of a person whose browser is opened anew, and closed."""
    with sync_playwright() as playwright:
        context = playwright.chromium.launch_persistent_context(
            profile, executable_path=str(browser),
            args=["--no-sandbox", "--host-resolver-rules=MAP * 127.0.0.1"],
        )  # fmt: skip
        tab = context.new_page()
        known = {}
        for site in ("bank.example", "news.example"):
            tab.goto(f"http://{site}:{port}{page}")
            known[site] = tab.inner_text("body")
        context.close()
        return known


@pytest.mark.parametrize("is_set", [True, False])
def test_a_real_browser_forgets_all_sites_but_the_kept(
    root: Path, tmp_path: Path, port: int, is_set: bool
) -> None:
    if is_set:
        assert change(root, True, "bank.example").refused == ""
    (root / MANAGED).mkdir(parents=True, exist_ok=True)
    browser = add_file(
        tmp_path, "browser",
        "#!/bin/sh\n"
        "# the policies are laid over the machine's own for this browser alone\n"
        f'exec unshare --mount sh -c \'mount --bind {root}/etc/chromium /etc/chromium && '
        'exec /usr/bin/chromium "$@"\' browser "$@"\n',
        0o755,
    )  # fmt: skip
    visit(browser, tmp_path / "profile", port, "/give")
    known = visit(browser, tmp_path / "profile", port, "/")
    assert known["bank.example"] == "who=anna"
    assert known["news.example"] == ("nobody" if is_set else "who=anna")
