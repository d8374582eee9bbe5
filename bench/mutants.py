"""Whether the tests notice when a decision that matters is taken wrongly: `make mutants`.

Each mutant is one small fault in one file, with the tests that should fail because of it. They run
on a copy of the tree; a mutant that no test notices has survived, and the command exits with 1.
`python -m bench.mutants WORDS` runs those alone whose name holds the words.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parent.parent
_COPIED = (
    "src",
    "tests",
    "tools",
    "bench",
    "docs",
    "pyproject.toml",
    "constraints.txt",
    "Makefile",
)
_LONGEST = 600
_GUARD = "agent/test_guard_file.py agent/test_machine_kinds.py"


class Mutant(NamedTuple):
    """One fault: `old` stands once in `path`, and becomes `new`."""

    name: str
    path: str
    old: str
    new: str
    tests: str
    """Files, and what of them by -k, as on pytest's command line."""


MUTANTS = (
    Mutant("files dated ahead go by age", "core/retention/verdicts.py",
           "self._ahead = to_seconds(now) + DATED_AHEAD", "self._ahead = to_seconds(now) + 2**40",
           "core/test_retention.py"),
    Mutant("files dated ahead: bound of a day", "core/retention/verdicts.py",
           "DATED_AHEAD = 600", "DATED_AHEAD = 86_400", "core/test_retention.py"),
    Mutant("protected by its resolved path alone", "core/retention/protection.py",
           "for path, e in (*written, *resolved)]", "for path, e in resolved]",
           "core/test_protection.py"),
    Mutant("a place may hold a folder that is never touched", "agent/config/guard.py",
           "if is_in or (_is_at_or_in(sealed, path) and not self._is_hold_in(sealed, path)):",
           "if is_in:", _GUARD),
    Mutant("a root may be cleaned as a whole", "agent/config/guard.py",
           "if _is_at_or_in(root, path):", "if False:", _GUARD),
    Mutant("the machine's own rules seal only what lies in them", "agent/config/guard.py",
           "if _is_at_or_in(path, sealed) or _is_at_or_in(sealed, path):",
           "if _is_at_or_in(path, sealed):", _GUARD),
    Mutant("helped though all else took more", "core/tuning/trials.py",
           "        if gets_dearer <= chance:\n            return Outcome.WORSE  #",
           "        if False:\n            return Outcome.WORSE  #",
           "core/tuning/test_trials.py"),
    Mutant("helped though the rest rose by what was saved", "core/tuning/trials.py",
           "return Outcome.HELPED if _stays_saved(base, after) else Outcome.OPEN",
           "return Outcome.HELPED", "core/tuning/test_trials.py"),
    Mutant("a report counts what was put back", "service/reporting/gathering.py",
           "count=max(0, known.count - hold.put_back.count),", "count=known.count,",
           "service/test_reports.py"),
    Mutant("a report counts the size of what was put back", "service/reporting/gathering.py",
           "size=max(0, known.size - hold.put_back.size),", "size=known.size,",
           "service/test_reports.py"),
    Mutant("foreign keys of a backup are not checked", "store/backups/copies.py",
           'if broken := conn.execute("PRAGMA foreign_key_check").fetchone():',
           'if broken := conn.execute("SELECT 1 WHERE 0").fetchone():',
           "service/test_backups.py"),
    Mutant("the chain of a backup is not checked", "store/backups/copies.py",
           "if not chain.intact:", "if False:", "service/test_backups.py"),
    Mutant("a token to work may make tokens", "service/http/auth.py",
           '"make_token", "withdraw_token", "change_password"',
           '"withdraw_token", "change_password"', "service/test_accounts.py"),
    Mutant("a token to work may set up passkeys", "service/http/auth.py",
           '"list_audit", "begin_passkey", "add_passkey",\n    "remove_passkey"',
           '"list_audit",\n    "remove_passkey"', "service/test_accounts.py"),
    Mutant("a token to read may write", "service/http/auth.py",
           "allowed = request.method in _SAFE_METHODS", "allowed = True",
           "service/test_accounts.py"),
    Mutant("a listing's digest leaves the path out", "core/survey/line_count.py",
           '        hashed.update("\\0".join(names).encode("utf-8", "surrogateescape"))\n', "",
           "core/test_surveys.py"),
    Mutant("forecast: the tails are not widened", "core/trends/futures.py",
           "heavy = np.sqrt(1 + (chance.square - 1) * min(1.0, 3.0 / freedom)).clip(0.4)",
           "heavy = np.ones_like(chance.square)", "core/trends/test_futures.py"),
    Mutant("forecast: the drift is taken as sure", "core/trends/futures.py",
           "drift = filling.drift + filling.drift_error * chance.normal / heavy",
           "drift = filling.drift + 0 * chance.normal / heavy", "core/trends/test_futures.py"),
    Mutant("a nearer scope does not lift a farther leave", "core/tuning/rules.py",
           'if rule.leave is None and getattr(rule, wish) is not None and values.get("leave"):',
           "if False:", "core/tuning/test_verdicts.py"),
    Mutant("a setting that needs approval changes without", "core/tuning/unattended.py",
           "if verdict.needs_approval:", "if False:", "core/tuning/test_unattended.py"),
    Mutant("the audit's chain does not compare what is shown", "core/ground/chain.py",
           'if said != shown | {"v": FORM}:', "if False:",
           "core/test_trends_and_records.py service/test_seals.py"),
    Mutant("words that are gone without an erasure pass", "core/ground/chain.py",
           "if part is None and digests[name] is not None and not may_lack:", "if False:",
           "core/test_trends_and_records.py service/test_seals.py"),
    Mutant("a result's hashed text is written anew", "store/schema/0035_field_terms.sql",
           "UPDATE runs SET progress = renamed_keys(progress,",
           "UPDATE runs SET result = renamed_keys(result, 'called_off=cancelled');\n"
           "UPDATE runs SET progress = renamed_keys(progress,",
           "store/test_field_terms_upgrade.py"),
    Mutant("a visit that is overdue is not", "core/desk/visits.py",
           "day is not None and day < today for day in",
           "day is not None and day > today for day in",
           "service/test_visits.py"),
)  # fmt: skip


def copy_of(folder: Path) -> Path:
    """The tree without what is built, for one mutant."""
    for name in _COPIED:
        source = ROOT / name
        if source.is_dir():
            ignored = shutil.ignore_patterns("__pycache__", "screenshots", "console")
            shutil.copytree(source, folder / name, ignore=ignored)
        else:
            shutil.copy2(source, folder / name)
    return folder


def survives(mutant: Mutant) -> str:
    """Why a mutant was not noticed; empty: a test failed by it."""
    with tempfile.TemporaryDirectory() as name:
        tree = copy_of(Path(name))
        path = tree / "src/phylax" / mutant.path
        text = path.read_text("utf-8")
        if text.count(mutant.old) != 1:
            return f"{mutant.old[:60]!r} stands {text.count(mutant.old)} times in {mutant.path}"
        path.write_text(text.replace(mutant.old, mutant.new), "utf-8")
        files = [f"tests/{each}" for each in mutant.tests.split()]
        if missing := [each for each in files if not (tree / each).exists()]:
            return f"there is no {missing[0]}"
        env = os.environ | {"PYTHONPATH": str(tree / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
        ended = subprocess.run(
            [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *files],
            cwd=tree, env=env, capture_output=True, text=True, timeout=_LONGEST, check=False,
        )  # fmt: skip
    if ended.returncode == 0:
        return "no test failed"
    return "" if ended.returncode == 1 else f"pytest: {(ended.stdout + ended.stderr)[-300:]}"


def main() -> None:
    words = " ".join(sys.argv[1:])
    chosen = [mutant for mutant in MUTANTS if words in mutant.name]
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        survived = 0
        for mutant, why in zip(chosen, pool.map(survives, chosen), strict=True):
            print(f"{'SURVIVED' if why else 'noticed ':8}  {mutant.name}{why and f': {why}'}")
            survived += bool(why)
    print(f"{len(chosen) - survived} of {len(chosen)} noticed")
    sys.exit(bool(survived))


if __name__ == "__main__":
    main()
