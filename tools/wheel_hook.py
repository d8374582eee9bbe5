"""Building a wheel: without the console in it the service would show nothing, so there is none."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface


class ConsoleIsThere(BuildHookInterface):  # type: ignore[type-arg,misc]
    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        page = Path(self.root, "src/phylax/service/console/index.html")
        if version != "editable" and not page.is_file():
            raise RuntimeError("the console is not built: say 'make console', then build again")
