"""The agent's own folder: which service it calls, as which machine, and on what kind."""

from __future__ import annotations

import os
import shutil
import sys
import tomllib
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import platformdirs
import tomli_w
from pydantic import Field

from phylax.agent.config.guard import GUARD_FILE
from phylax.agent.platform.locks import TakenError, locked
from phylax.core.ground.values import Demand

CONFIG = "agent.toml"
KEY = "agent.key"
LOCK = "agent.lock"


Kind = Literal["linux", "windows", "standin"]


class NotEnrolledError(Exception):
    """There is no agent in this folder yet."""


class BusyError(Exception):
    """Another agent works in this folder."""


class AgentConfig(Demand):
    """What `agent.toml` says."""

    url: str
    tag: str
    machine_id: int
    kind: Kind
    standin: str | None = None
    homes: tuple[str, ...] = ()
    drives: tuple[str, ...] = ()
    readings_every: int = Field(900, ge=5, description="Seconds between readings")
    clear_http: bool | None = Field(
        None, description="Whether clear HTTP is wanted; None: enrolled before that was asked"
    )
    certificate: str | None = Field(
        None, description="File with the shop's own certificate, the only one that is trusted"
    )


@dataclass(frozen=True)
class AgentHome:
    folder: Path

    @classmethod
    def default(cls) -> AgentHome:
        return cls(Path(platformdirs.user_data_dir("phylax-agent", appauthor=False)))

    def config(self) -> AgentConfig:
        try:
            text = (self.folder / CONFIG).read_text(encoding="utf-8")
        except FileNotFoundError:
            raise NotEnrolledError(
                f"no agent is enrolled in {self.folder}; run 'phylax agent enrol URL CODE --data "
                f"{self.folder}' first"
            ) from None
        return AgentConfig.model_validate(tomllib.loads(text))

    def key(self) -> str:
        return (self.folder / KEY).read_text(encoding="ascii").strip()

    def save(self, config: AgentConfig, key: str) -> None:
        """Write configuration and key; the key is readable by this user alone."""
        self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        text = tomli_w.dumps(config.model_dump(mode="json", exclude_none=True))
        (self.folder / CONFIG).write_text(text, encoding="utf-8")
        handle = os.open(self.folder / KEY, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "w", encoding="ascii") as file:
            file.write(key)

    def forget(self) -> None:
        """Empty the folder, but for the administrator's own file; at the end nobody is enrolled in
        it. OSError: it goes on the next time."""
        last = (CONFIG, KEY)
        for path in self.folder.iterdir():
            if path.name in (*last, GUARD_FILE, LOCK):
                continue
            if path.is_dir() and not path.is_symlink():
                shutil.rmtree(path)
            else:
                path.unlink()
        for name in last:
            (self.folder / name).unlink(missing_ok=True)

    @contextmanager
    def alone(self) -> Iterator[None]:
        """One agent works in this folder; BusyError where another one does."""
        with ExitStack() as stack:
            try:
                stack.enter_context(locked(self.folder / LOCK))
            except TakenError:
                raise BusyError(
                    f"another agent works in {self.folder}; stop it first, or give another --data"
                ) from None
            yield

    @property
    def spool(self) -> Path:
        return self.folder / "spool"

    @property
    def changes(self) -> Path:
        """The journal of settings that were changed."""
        return self.folder / "changes"

    @property
    def runs(self) -> Path:
        return self.folder / "runs"


def this_kind() -> Kind:
    """The kind of machine that this very machine is."""
    return "windows" if sys.platform == "win32" else "linux"
