"""What whoever speaks a former version of the interface is told."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI

from phylax import __version__
from phylax.service.problems import Problem

_METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE")


def install(app: FastAPI) -> None:
    """Answer every address of version 1 by a problem that says what to do."""

    @app.api_route("/api/v1/{path:path}", methods=list(_METHODS), include_in_schema=False)
    async def former_version(path: str) -> Any:
        raise Problem(
            410,
            "former-version",
            "This service speaks version 2 of the interface, you asked in version 1. Upgrade this "
            f"agent or program to Phylax {__version__}, the version of the service.",
        )
