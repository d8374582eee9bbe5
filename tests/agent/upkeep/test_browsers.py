"""What was added to people's browsers: a real browser's profile, profiles as they are laid out, and
odd ones."""

from __future__ import annotations

import json
import os
import subprocess
from pathlib import Path
from typing import Any

from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.machines.linux.checks.browsers import browsers
from phylax.core.checks.findings import Checked, Finding, Severity


def watch(done: int = 0, of: int | None = None) -> None:
    """Nobody ends it."""


def chromium(home: Path, settings: dict[str, Any], **more: Any) -> Path:
    profile = home / ".config/chromium/Default"
    profile.mkdir(parents=True)
    said = {"extensions": {"settings": settings}} | more
    (profile / "Preferences").write_text(json.dumps(said))
    return profile


def serious(findings: list[Finding]) -> list[str]:
    return [finding.what for finding in findings if finding.severity is Severity.WARNING]


def test_a_real_browser_says_what_was_added_from_outside_its_shop(tmp_path: Path) -> None:
    added = tmp_path / "added"
    (added / "_locales/en").mkdir(parents=True)
    manifest = {"manifest_version": 3, "name": "__MSG_title__", "version": "1.4",
                "default_locale": "en"}  # fmt: skip
    (added / "manifest.json").write_text(json.dumps(manifest))
    (added / "_locales/en/messages.json").write_text('{"Title": {"message": "Offer bar"}}')
    subprocess.run(
        ["chromium", "--headless=new", "--no-sandbox", "--disable-gpu",
         f"--user-data-dir={tmp_path}/home/.config/chromium",
         "--disable-features=DisableLoadExtensionCommandLineSwitch",
         f"--load-extension={added}", "--dump-dom", "about:blank"],
        check=True, capture_output=True, timeout=300, env=os.environ | {"HOME": str(tmp_path)},
    )  # fmt: skip
    findings = browsers(str(tmp_path / "home"))
    assert serious(findings) == ["Offer bar was added to the browser from outside its shop"]
    assert [f.what for f in findings if not f.needs_somebody] == [
        "1 added to the browser: Offer bar 1.4"
    ]
    assert {finding.where for finding in findings} == {"Chromium, Default"}


def test_who_added_it_and_where_the_browser_searches(tmp_path: Path) -> None:
    def entry(name: str, **more: object) -> dict[str, object]:
        return {"manifest": {"name": name, "version": "2"}, "location": 1,
                "from_webstore": True} | more  # fmt: skip

    settings = {
        "a": entry("Reader"), "b": entry("Toolbar", location=3), "c": entry("Pushed", location=9),
        "d": entry("Built in", location=5), "e": entry("Dark", manifest={"theme": {}}), "f": "odd",
    }  # fmt: skip
    engine = {"template_url_data": {"short_name": "Tide search"}}
    chromium(tmp_path, settings, default_search_provider_data=engine)
    findings = browsers(str(tmp_path))
    assert serious(findings) == [
        "Toolbar was added to the browser by another program",
        "Pushed was added to the browser by whoever administers the machine",
    ]
    notes = [finding.what for finding in findings if not finding.needs_somebody]
    assert notes == [
        "3 added to the browser: Reader 2, Toolbar 2, Pushed 2", "Searches with Tide search"
    ]  # fmt: skip


def test_firefox_has_its_own_files(tmp_path: Path) -> None:
    profile = tmp_path / ".mozilla/firefox/abc.default"
    profile.mkdir(parents=True)
    addons = [
        {"id": "a@b", "version": "3", "type": "extension", "location": "app-profile",
         "defaultLocale": {"name": "Reader"}},
        {"id": "bar@b", "version": "1", "type": "extension", "location": "app-global",
         "foreignInstall": True},
        {"id": "own@b", "type": "extension", "location": "app-builtin"},
        {"id": "dark@b", "type": "theme", "location": "app-profile"}, "odd",
    ]  # fmt: skip
    (profile / "extensions.json").write_text(json.dumps({"addons": addons}))
    prefs = 'user_pref("browser.urlbar.placeholderName", "Tide search");\n'
    (profile / "prefs.js").write_text(prefs)
    findings = browsers(str(tmp_path))
    assert serious(findings) == ["bar@b was added to the browser by another program"]
    assert [f.what for f in findings if not f.needs_somebody] == [
        "2 added to the browser: Reader 3, bar@b 1", "Searches with Tide search"
    ]  # fmt: skip


def test_odd_profiles_cost_nothing_and_names_bring_no_codes(tmp_path: Path) -> None:
    chromium(tmp_path, {"a": {"manifest": {"name": "Bad\x1b[31m\n" + "x" * 900}, "path": 7},
                        "b": {"path": "\0"}, "c": {"path": "../../../../etc"}})  # fmt: skip
    for number, text in enumerate(("[" * 100_000, "{", "[]", '{"extensions": 7}', "\udcff")):
        profile = tmp_path / f".config/google-chrome/P{number}"
        profile.mkdir(parents=True)
        (profile / "Preferences").write_bytes(text.encode("utf-8", "surrogateescape"))
    os.mkfifo(profile / "Secure Preferences")
    (tmp_path / ".config/microsoft-edge").symlink_to("/")
    findings = browsers(str(tmp_path))
    assert {finding.where for finding in findings} == {"Chromium, Default"}
    assert all(finding.what.isprintable() for finding in findings)
    assert any(what.startswith("Bad [31m") for what in serious(findings))


def test_the_agent_itself_reads_only_what_is_of_its_own_people(tmp_path: Path) -> None:
    chromium(tmp_path / "anna", {"a": {"manifest": {"name": "Reader"}, "from_webstore": True}})
    machine = LinuxMachine([str(tmp_path / "anna")])
    (checked,) = machine.check("browsers", "", watch)
    assert isinstance(checked, Checked) and checked.target == "anna"
    assert [finding.what for finding in checked.findings] == ["1 added to the browser: Reader"]
