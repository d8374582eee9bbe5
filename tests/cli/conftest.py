"""The command line, run as a process of its own."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from helpers import Run
from phylax.client import Phylax


@pytest.fixture
def phylax(owner: Phylax, tmp_path: Path) -> Run:
    token = tmp_path / "owner.token"
    token.write_text(owner.people.make_token("script").token)

    def run(*words: str, url: str | None = None, **env: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "phylax", *words],
            capture_output=True, text=True, timeout=60, stdin=subprocess.DEVNULL,
            env=os.environ | {
                "PHYLAX_URL": url or owner.url, "PHYLAX_TOKEN_FILE": str(token), "COLUMNS": "160",
                "XDG_CONFIG_HOME": str(tmp_path / "config"),
            } | env,
        )  # fmt: skip

    return run
