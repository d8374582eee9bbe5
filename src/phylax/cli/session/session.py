"""Which service the command line speaks to, and as whom."""

from __future__ import annotations

import json
import os
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TypedDict

import click
import platformdirs

if TYPE_CHECKING:
    from phylax.client import Phylax
    from phylax.core.clients.shop import Shop

DEFAULT_URL = "http://127.0.0.1:8610"
EXIT_USAGE = 2
EXIT_UNREACHABLE = 3
EXIT_REFUSED = 4
EXIT_PARTLY = 5
EXIT_NOT_DONE = 6
EXIT_STOPPED = 130
"""By Ctrl-C, as shells count it."""


def _config_file() -> Path:
    return Path(platformdirs.user_config_dir("phylax", appauthor=False)) / "signed-in.json"


class Way(TypedDict):
    """How a service is reached."""

    clear: bool
    certificate: str | None


def way() -> Way:
    """By the environment: whether clear HTTP to other hosts is wanted, and which certificate is
    the shop's own."""
    return Way(
        clear=os.environ.get("PHYLAX_CLEAR_HTTP") == "yes",
        certificate=os.environ.get("PHYLAX_CERTIFICATE") or None,
    )


class Session:
    """Made from options and environment; connects when first used."""

    def __init__(
        self,
        url: str | None,
        token_file: str | None,
        *,
        timeout: float = 30.0,
        retries: int = 2,
    ) -> None:
        self._given_url = url
        self._token_file = token_file
        self._timeout, self._retries = timeout, retries

    @cached_property
    def _saved(self) -> dict[str, str]:
        try:
            saved: dict[str, str] = json.loads(_config_file().read_text(encoding="utf-8"))
        except FileNotFoundError:
            return {}
        return saved

    @property
    def url(self) -> str:
        return self._given_url or self._saved.get("url") or DEFAULT_URL

    @cached_property
    def shop(self) -> Phylax:
        """The client, signed in; a usage error says how where no token is known."""
        from phylax.client import Phylax

        return Phylax(
            self.url, self._token(), timeout=self._timeout, retries=self._retries, **way()
        )

    @cached_property
    def the_shop(self) -> Shop:
        """The shop itself: its name and time zone."""
        return self.shop.shop()

    def _token(self) -> str:
        if self._token_file:
            try:
                return Path(self._token_file).read_text(encoding="ascii").strip()
            except (OSError, UnicodeDecodeError) as error:
                raise click.UsageError(
                    f"The token file {self._token_file} cannot be read ({error}). Give another "
                    "with --token-file (PHYLAX_TOKEN_FILE), or run 'phylax sign-in'."
                ) from error
        if token := os.environ.get("PHYLAX_TOKEN"):
            return token
        if self._saved.get("url") == self.url:
            return self._saved["token"]
        raise click.UsageError(
            "Not signed in. Run 'phylax sign-in', or give --token-file (PHYLAX_TOKEN_FILE)."
        )

    def save(self, url: str, token: str) -> Path:
        """Remember a sign-in, readable by this user alone."""
        path = _config_file()
        path.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            json.dump({"url": url, "token": token}, file)
        return path


pass_session = click.make_pass_decorator(Session)
