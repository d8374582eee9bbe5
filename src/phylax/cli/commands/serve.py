"""`phylax serve`: start the shop's service."""

from __future__ import annotations

import shlex
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal, TypeVar

import click
import platformdirs

F = TypeVar("F", bound=Callable[..., Any])


def data_option(command: F) -> F:
    """`--data DIR`, the shop's data directory."""
    return click.option(
        "--data",
        envvar="PHYLAX_DATA",
        type=click.Path(file_okay=False, path_type=Path),
        default=lambda: Path(platformdirs.user_data_dir("phylax", appauthor=False)),
        help="The shop's data directory.",
    )(command)


def at_folder(data: Path) -> str:
    """` --data FOLDER` behind a command that is named, where it is not the usual folder."""
    is_usual = data == Path(platformdirs.user_data_dir("phylax", appauthor=False))
    return "" if is_usual else f" --data {shlex.quote(str(data))}"


@click.command("serve")
@data_option
@click.option("--host", default="127.0.0.1", show_default=True, help="Address to listen on.")
@click.option("--port", default=8610, show_default=True, type=click.IntRange(1, 65535))
@click.option(
    "--behind-proxy",
    is_flag=True,
    help="A proxy before the service does TLS; needed for any address but loopback.",
)
@click.option("--tls-cert", type=click.Path(exists=True, dir_okay=False, path_type=Path),
              help="Serve https with this certificate (PEM), without a proxy.")  # fmt: skip
@click.option("--tls-key", type=click.Path(exists=True, dir_okay=False, path_type=Path),
              help="The certificate's key (PEM).")  # fmt: skip
@click.option(
    "--log",
    "log_form",
    type=click.Choice(["json", "text"]),
    default="text",
    show_default=True,
    help="How log lines are written, to standard error.",
)
@click.option(
    "--log-level",
    type=click.Choice(["debug", "info", "warning", "error"]),
    default="info",
    show_default=True,
    help="debug: every request.",
)
def command(
    data: Path,
    host: str,
    port: int,
    behind_proxy: bool,
    tls_cert: Path | None,
    tls_key: Path | None,
    log_form: Literal["json", "text"],
    log_level: str,
) -> None:
    """Start the shop's service; Ctrl-C stops it."""
    from phylax.core.ground.addresses import is_loopback

    if (tls_cert is None) != (tls_key is None):
        raise click.UsageError("--tls-cert and --tls-key go together.")
    if not behind_proxy and tls_cert is None and not is_loopback(host):
        raise click.UsageError(
            f"{host} can be reached by others: give a certificate (phylax shop make-certificate), "
            "put a proxy that does TLS before it and say --behind-proxy, or listen on 127.0.0.1."
        )
    from phylax.service.serving.serve import HeldError, NewerFileError, NoShopError, serve

    scheme = "https" if tls_cert else "http"
    try:
        serve(
            data,
            host,
            port,
            behind_proxy=behind_proxy,
            tls=None if tls_cert is None or tls_key is None else (tls_cert, tls_key),
            log_form=log_form,
            log_level=log_level,
            ready=lambda: click.echo(f"Phylax is at {scheme}://{host}:{port} (data in {data})"),
        )
    except (NewerFileError, NoShopError, HeldError) as error:
        raise click.ClickException(str(error)) from error
    except sqlite3.Error as error:
        raise click.ClickException(
            f"The shop's file in {data} cannot be used: {error}. If it is damaged, put the last "
            "backup in its place with 'phylax backup restore'."
        ) from error
    except OSError as error:
        raise click.ClickException(f"{error.filename or data}: {error.strerror}.") from error


def open_shop(data: Path, name: str, zone: str, owner: str, login: str, password: str) -> None:
    """Open a shop with its first owner."""
    from phylax.core.clients.shop import ShopEdit
    from phylax.core.people.accounts import NewPerson, Role
    from phylax.service.serving import serve

    serve.open_shop(
        data,
        ShopEdit.model_validate({"name": name, "zone": zone}),
        NewPerson(login=login, name=owner, role=Role.OWNER, password=password),
    )
