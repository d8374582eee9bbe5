"""The verifiers of the record that the docs give, run as they stand there."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

DOCS = Path(__file__).parents[1] / "docs/chain.md"


def verifier(language: str) -> str:
    written = re.search(rf"```{language}\n(.*?)```", DOCS.read_text("utf-8"), re.DOTALL)
    assert written
    return written[1]


def run_verifier(folder: Path, language: str) -> subprocess.CompletedProcess[str]:
    """In the folder of a record that was taken out."""
    command = [sys.executable, "-c"] if language == "python" else ["sh", "-c"]
    return subprocess.run(
        [*command, verifier(language)], cwd=folder, capture_output=True, text=True, timeout=300
    )
