"""Choosing volumes: `--volume` and `--except-volume`, wherever something looks or cleans."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any, TypeVar

import click

from phylax.core.ground.volumes import VolumeChoice, plain_mount

F = TypeVar("F", bound=Callable[..., Any])


class VolumeType(click.ParamType[str]):
    """A volume as machines name it."""

    name = "volume"

    def convert(self, value: Any, param: Any, ctx: Any) -> str:
        try:
            return plain_mount(value)
        except ValueError as error:
            self.fail(str(error), param, ctx)


def volume_options(command: F) -> F:
    """The command is called with `volumes`, a choice of them."""

    @functools.wraps(command)
    def chosen(*args: Any, only: tuple[str, ...], but: tuple[str, ...], **more: Any) -> Any:
        if only and but:
            raise click.UsageError("Say --volume or --except-volume, not both.")
        return command(*args, volumes=VolumeChoice(only=only, but=but), **more)

    for option in (
        click.option("--except-volume", "but", type=VolumeType(), multiple=True,
                     help="All volumes but this one; repeat for more."),
        click.option("--volume", "only", type=VolumeType(), multiple=True,
                     help="Only this volume, as in C: or /home; repeat for more."),
    ):  # fmt: skip
        chosen = option(chosen)
    return chosen  # type: ignore[return-value]
