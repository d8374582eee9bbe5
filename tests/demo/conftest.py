"""A year of the made-up shop, made once."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import pytest

from phylax.demo.shop import make

NOW = datetime(2026, 3, 2, 9, 30, tzinfo=UTC)


@pytest.fixture(scope="session")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Its folder; whoever changes something takes a copy."""
    folder = tmp_path_factory.mktemp("demo") / "shop"
    folder.mkdir()
    make(folder, NOW, "http://127.0.0.1:1", lives_in=folder)
    return folder
