"""What was added to one person's browsers, and where they search: read from the profiles, with that
person's rights. Nothing is changed.

Extensions of Chromium's family stand in a profile's `Preferences` (JSON), those of Firefox in its
`extensions.json`. What browsers bring along themselves is left out.
"""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator
from typing import Any, Final, NamedTuple

from phylax.agent.machines.linux.startup.ini_files import read_text
from phylax.core.checks.findings import Finding, Severity

_CHROMIUM_FAMILY = {
    "Chromium": ".config/chromium",
    "Chrome": ".config/google-chrome",
    "Edge": ".config/microsoft-edge",
    "Brave": ".config/BraveSoftware/Brave-Browser",
}
_FIREFOX = ".mozilla/firefox"
_LARGEST: Final = 16 * 2**20
_MOST_PROFILES, _MOST_NAMED = 30, 10
_BUILT_IN = (5, 10)
"""Chromium's `location` of what it brings along."""
_BY_POLICY = (7, 9)
_BY_PROGRAM = (2, 3, 6)
_OF_FIREFOX = ("app-builtin", "app-builtin-addons", "app-system-defaults", "app-system-addons")
_PLACEHOLDER = re.compile(r'^user_pref\("browser\.urlbar\.placeholderName", "([^"]*)"\);', re.M)
_MESSAGE = re.compile(r"__MSG_(\w+)__")


class Extension(NamedTuple):
    """One that was added."""

    name: str
    version: str
    came: str
    """How it came, where that is worth a word; empty: from the browser's own shop."""


def browsers(home: str) -> list[Finding]:
    """What there is in every profile below a home."""
    findings = []
    for profile, extensions, engine in (*_chromium_profiles(home), *_firefox_profiles(home)):
        for extension in extensions:
            if extension.came:
                what = f"{extension.name} was added to the browser {extension.came}"
                findings.append(
                    Finding(severity=Severity.WARNING, what=what[:500], where=profile[:500],
                            evidence=f"version {extension.version}"[:500])
                )  # fmt: skip
        names = [f"{extension.name} {extension.version}".strip() for extension in extensions]
        if names:
            rest = f", and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
            what = f"{len(names)} added to the browser: {', '.join(names[:_MOST_NAMED])}{rest}"
            findings.append(Finding(severity=Severity.NOTE, what=what[:500], where=profile[:500]))
        if engine:
            what = f"Searches with {engine}"
            findings.append(Finding(severity=Severity.NOTE, what=what[:500], where=profile[:500]))
    return findings


Profile = tuple[str, list[Extension], str]
"""Its name, what was added to it, where it searches (empty: as the browser came)."""


def _chromium_profiles(home: str) -> Iterator[Profile]:
    for browser, below in _CHROMIUM_FAMILY.items():
        for name in _folders_in(os.path.join(home, below)):
            folder = os.path.join(home, below, name)
            settings = [_json(os.path.join(folder, file))
                        for file in ("Preferences", "Secure Preferences")]  # fmt: skip
            if not any(settings):
                continue
            added = {
                key: entry
                for said in settings
                for key, entry in _dict(said, "extensions", "settings").items()
                if isinstance(entry, dict)
            }
            extensions = [_of_chromium(folder, key, added[key]) for key in sorted(added)]
            engines = (
                _dict(said, "default_search_provider_data", "template_url_data").get("short_name")
                for said in settings
            )
            yield (
                f"{browser}, {name}",
                [extension for extension in extensions if extension is not None],
                next((_text(engine) for engine in engines if engine), ""),
            )


def _of_chromium(folder: str, key: str, entry: dict[str, Any]) -> Extension | None:
    if entry.get("location") in _BUILT_IN or entry.get("was_installed_by_default") is True:
        return None
    path = entry.get("path")
    manifest = entry.get("manifest")
    at = os.path.join(folder, "Extensions", path) if isinstance(path, str) and path else ""
    if not isinstance(manifest, dict):
        manifest = _json(os.path.join(at, "manifest.json")) if at else {}
    if manifest.get("theme") is not None:
        return None
    came = ""
    if entry.get("location") in _BY_POLICY:
        came = "by whoever administers the machine"
    elif entry.get("location") in _BY_PROGRAM:
        came = "by another program"
    elif entry.get("from_webstore") is not True:
        came = "from outside its shop"
    name = _in_their_words(_text(manifest.get("name")), at, _text(manifest.get("default_locale")))
    return Extension(name or _text(key), _text(manifest.get("version")), came)


def _in_their_words(name: str, at: str, locale: str) -> str:
    """A name that stands in a file of texts."""
    match = _MESSAGE.fullmatch(name)
    if match is None or not at or not re.fullmatch(r"\w+", locale):
        return name
    texts = _json(os.path.join(at, "_locales", locale, "messages.json"))
    by_key = {_text(key).lower(): entry for key, entry in texts.items()}
    entry = by_key.get(match[1].lower())
    return _text(entry.get("message")) if isinstance(entry, dict) else name


def _firefox_profiles(home: str) -> Iterator[Profile]:
    for name in _folders_in(os.path.join(home, _FIREFOX)):
        folder = os.path.join(home, _FIREFOX, name)
        addons = _json(os.path.join(folder, "extensions.json")).get("addons")
        placeholder = _PLACEHOLDER.search(
            read_text(os.path.join(folder, "prefs.js"), _LARGEST) or ""
        )
        if addons is None and placeholder is None:
            continue
        extensions = [
            Extension(
                _text(_dict(addon, "defaultLocale").get("name")) or _text(addon.get("id")),
                _text(addon.get("version")),
                "by another program" if addon.get("foreignInstall") is True else "",
            )
            for addon in (addons if isinstance(addons, list) else [])
            if isinstance(addon, dict) and addon.get("type") == "extension"
            and addon.get("location") not in _OF_FIREFOX
        ]  # fmt: skip
        yield f"Firefox, {name}", extensions, _text(placeholder[1]) if placeholder else ""


def _folders_in(path: str) -> list[str]:
    try:
        with os.scandir(path) as entries:
            names = sorted(e.name for e in entries if e.is_dir(follow_symlinks=False))
    except OSError:
        return []
    return [name for name in names if _text(name)][:_MOST_PROFILES]


def _json(path: str) -> dict[str, Any]:
    """What a file says; empty where there is none, or it is odd."""
    try:
        said = json.loads(read_text(path, _LARGEST) or "{}")
    except (ValueError, RecursionError):
        return {}
    return said if isinstance(said, dict) else {}


def _dict(said: object, *keys: str) -> dict[str, Any]:
    for key in keys:
        said = said.get(key) if isinstance(said, dict) else None
    return said if isinstance(said, dict) else {}


def _text(said: object) -> str:
    """A text that can be shown: no ends of lines, no codes, not long."""
    if not isinstance(said, str):
        return ""
    plain = said.encode("utf-8", "replace").decode("utf-8")
    return "".join(c if c.isprintable() else " " for c in plain)[:100].strip()
