"""What checks of a stand-in come to: `checks.toml` says what is wrong and how long it takes.

Without the file everything is well. Disks are named as the file names them, else there is one.
"""

from __future__ import annotations

import errno
import time
import tomllib
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Protocol

import tomli_w
from pydantic import Field, ValidationError

from phylax.core.checks import disk_health
from phylax.core.checks.findings import Checked, Finding, could_not_look, looked
from phylax.core.ground.values import Demand

CHECKS_FILE = "checks.toml"
_WELL = {"failing": 0, "reallocated sectors": 0, "pending sectors": 0, "degrees": 34}
_BREATHE = 0.2


class PretendedVolume(Demand):
    """A volume's file system."""

    findings: tuple[Finding, ...] = ()
    could_not_look: str = ""


class PretendedChecks(Demand):
    """What `checks.toml` says."""

    seconds: float = Field(0, ge=0, le=3600, description="How long each check pretends to take")
    volumes: dict[str, PretendedVolume] = Field({}, description="By their mounts")
    disks: dict[str, dict[str, int]] = Field({}, description="What each has counted, by its name")
    grows: dict[str, dict[str, int]] = Field(
        {}, description="How much more of it each has counted at each further survey, by its name"
    )


class _WithVolumes(Protocol):
    """What is asked of the stand-in's state."""

    @property
    def volumes(self) -> tuple[_Volume, ...]: ...


class _Volume(Protocol):
    @property
    def mount(self) -> str: ...


def pretended_checks(
    folder: Path, kind: str, state: _WithVolumes, breathe: Callable[[], None]
) -> Iterator[Checked]:
    """One check of everything that it is of. OSError where the file is wrong."""
    pretended = read_checks(folder)
    match kind:
        case "file-system":
            for volume in state.volumes:
                started = _takes(pretended.seconds, breathe)
                said = pretended.volumes.get(volume.mount, PretendedVolume())
                if said.could_not_look:
                    yield could_not_look(kind, volume.mount, started, said.could_not_look)
                else:
                    yield looked(kind, volume.mount, started, said.findings)
        case "disk-health":
            if pretended.grows:
                write_checks(folder, _grown(pretended))
            for disk, counted in (pretended.disks or {"disk 0": _WELL}).items():
                started = _takes(pretended.seconds, breathe)
                judged = disk_health.findings(counted, disk)
                yield looked(kind, disk, started, judged, counted)
        case _:
            raise OSError(errno.ENOTSUP, "is not pretended", kind)


def read_checks(folder: Path) -> PretendedChecks:
    """What is wrong with a stand-in. OSError where the file is none."""
    try:
        text = (folder / CHECKS_FILE).read_text(encoding="utf-8")
        return PretendedChecks.model_validate(tomllib.loads(text))
    except FileNotFoundError:
        return PretendedChecks()
    except (ValidationError, tomllib.TOMLDecodeError) as failure:
        raise OSError(errno.EINVAL, f"{CHECKS_FILE} is wrong: {failure}"[:300]) from None


def write_checks(folder: Path, pretended: PretendedChecks) -> None:
    path = folder / CHECKS_FILE
    part = path.with_suffix(".part")
    text = tomli_w.dumps(pretended.model_dump(mode="json", exclude_defaults=True))
    part.write_text(text, encoding="utf-8")
    part.replace(path)


def _grown(pretended: PretendedChecks) -> PretendedChecks:
    """A disk that fails slowly has counted more by the next survey."""
    disks = {
        disk: {
            name: counted.get(name, 0) + pretended.grows.get(disk, {}).get(name, 0)
            for name in {**counted, **pretended.grows.get(disk, {})}
        }
        for disk, counted in pretended.disks.items()
    }
    return pretended.model_copy(update={"disks": disks})


def repair(folder: Path, volumes: Sequence[str]) -> None:
    """Volumes were repaired: what was found on them is not there any more."""
    pretended = read_checks(folder)
    kept = {name: said for name, said in pretended.volumes.items() if name not in volumes}
    write_checks(folder, pretended.model_copy(update={"volumes": kept}))


def _takes(seconds: float, breathe: Callable[[], None]) -> datetime:
    """Pretend to work; when it began."""
    started = datetime.now(UTC)
    until = time.monotonic() + seconds
    while (left := until - time.monotonic()) > 0:
        time.sleep(min(left, _BREATHE))
        breathe()
    return started
