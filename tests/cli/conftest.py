"""The command line, run here: a process of its own for each command would take most of the time."""

from __future__ import annotations

import io
import sys
from pathlib import Path
from subprocess import CompletedProcess

import pytest

from conftest import Service
from helpers import Clock, Run
from phylax.cli import main
from phylax.cli.session import clock as _clock
from phylax.cli.terminal.output import console
from phylax.client import Phylax


@pytest.fixture
def phylax(service: Service, owner: Phylax, clock: Clock, tmp_path: Path) -> Run:
    token = tmp_path / "owner.token"
    with service.as_("ines") as signed_in:
        token.write_text(signed_in.secret or "")
    usual = {
        "PHYLAX_URL": owner.url, "PHYLAX_TOKEN_FILE": str(token), "COLUMNS": "160",
        "XDG_CONFIG_HOME": str(tmp_path / "config"),
    }  # fmt: skip

    def run(
        *words: str, url: str | None = None, stdin: bytes = b"", **env: str
    ) -> CompletedProcess[str]:
        streams = [io.TextIOWrapper(io.BytesIO(), encoding="utf-8") for _ in range(2)]
        with pytest.MonkeyPatch.context() as here:
            here.setattr(sys, "argv", ["phylax", *words])
            here.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO(stdin), encoding="utf-8"))
            here.setattr(sys, "stdout", streams[0])
            here.setattr(sys, "stderr", streams[1])
            wanted = usual | ({"PHYLAX_URL": url} if url else {}) | env
            for name, value in wanted.items():
                here.setenv(name, value)
            # a console reads it once, when its process starts
            # people and shop go by one clock
            here.setattr(_clock, "source", clock)
            here.setattr(console, "width", int(wanted["COLUMNS"]))
            # with columns of its own it is a terminal, else a pipe
            here.setattr(console, "_force_terminal", "COLUMNS" in env)
            with pytest.raises(SystemExit) as ended:
                main()
            code = ended.value.code
            if isinstance(code, str):
                # as the interpreter does it
                print(code, file=sys.stderr)
                code = 1
        printed = []
        for stream in streams:
            stream.flush()
            printed.append(stream.buffer.getvalue().decode())
        return CompletedProcess(words, code or 0, *printed)

    return run
