"""Prints the OpenAPI document: the contract that docs/openapi.json and the console's types keep."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

from phylax.service.context.context import Context
from phylax.service.serving.app import create_app
from phylax.store.file.database import Database


def document() -> str:
    """The document as it is kept in the repository."""
    with tempfile.TemporaryDirectory() as folder:
        database = Database(Path(folder) / "contract.sqlite3")
        try:
            return json.dumps(create_app(Context(database)).openapi(), indent=1) + "\n"
        finally:
            database.close()


if __name__ == "__main__":
    print(document(), end="")
