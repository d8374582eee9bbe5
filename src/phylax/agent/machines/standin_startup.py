"""What a stand-in pretends to start by itself, and what its pretended starts cost.

`startup/` lists its programs, one file for each; `starts.jsonl` keeps its starts, oldest first. A
start costs what starts with it, dearer or cheaper by chance as real ones are.
"""

from __future__ import annotations

import errno
from collections.abc import Callable, Sequence
from datetime import datetime
from hashlib import sha256
from pathlib import Path
from random import Random

from pydantic import Field, ValidationError

from phylax.agent.tuning.pieces import read
from phylax.core.ground.values import Demand, Scalar
from phylax.core.tuning.pieces import File, Piece
from phylax.core.tuning.programs import Intent, Program, Switch, switched
from phylax.core.tuning.setting import settings
from phylax.core.tuning.starts import BootCost
from phylax.core.tuning.trials import LeftOut
from phylax.core.tuning.verdicts import Seen

STARTUP_FOLDER = "startup"
"""One JSON file for each program that something starts; see docs/stand-in.md."""
SETTINGS_FOLDER = "settings"
"""One JSON file for each setting of one value."""
STARTS_FILE = "starts.jsonl"
_REST = 9.0
"""Processor seconds of what belongs to no program."""
_SHARE = {Intent.AT_START: 1.0, Intent.AFTER_START: 0.3}
"""How much of its cost a program takes of a start, by how it runs."""
_WHOLE, _EACH = 0.07, 0.05
"""How far starts scatter as a whole, and programs among themselves, as logarithms."""
_UPDATED_EACH = 11


class PretendedStarting(Demand):
    """How a stand-in behaves when it starts; programs by their keys."""

    comes_back: tuple[str, ...] = Field((), description="What switches itself on again")
    cut_off_without: tuple[str, ...] = Field(
        (), description="What it needs to reach the service, once it was started without it"
    )
    dearer_without: dict[str, float] = Field(
        {}, description="By how much all else costs more where this does not start with it"
    )


class PretendedValue(Demand):
    """What a file in `settings/` says."""

    value: Scalar | None = Field(None, description="None: it is not set")
    settable: bool = True


class Startup:
    """A stand-in's programs and starts."""

    def __init__(self, folder: Path, host: str, behaviour: Callable[[], PretendedStarting]) -> None:
        self._folder = folder
        self._host = host
        self._behaviour = behaviour

    def programs(self) -> list[Program]:
        """What `startup/` lists, one file for each program; one bad file costs only itself."""
        listed = []
        for path in sorted((self._folder / STARTUP_FOLDER).glob("*.json")):
            try:
                listed.append(Program.model_validate_json(path.read_bytes()))
            except (OSError, ValidationError) as failure:
                odd = f"{path.name} is no program: {type(failure).__name__}"
                listed.append(Program(key=f"file:{path.name}", name=path.stem, unread=odd))
        return listed

    def switched(self, program: Program, plan: Sequence[Switch]) -> tuple[Piece, ...]:
        """The program's file, with its starters as the plan has them."""
        path, listed = self._file_of(program.key)
        below = f"{STARTUP_FOLDER}/{path.name}"
        before = read(str(self._folder), below)
        text = switched(listed, plan).model_dump_json(exclude_defaults=True, indent=1)
        after = File.of(text.encode("utf-8"), getattr(before, "mode", 0o644))
        return (Piece(path=below, before=before, after=after),)

    def values(self) -> list[Seen]:
        """What `settings/` lists: a file for each, whose name is the key and, after a dot, the
        person whose it is. One bad file costs only itself."""
        values = []
        for path in sorted((self._folder / SETTINGS_FOLDER).glob("*.json")):
            key, _, of = path.stem.partition(".")
            try:
                pretended = PretendedValue.model_validate_json(path.read_bytes())
                values.append(
                    Seen(key=key, person=of, value=pretended.value, settable=pretended.settable)
                )
            except (OSError, ValidationError) as failure:
                if key in settings():
                    odd = f"{path.name} is no setting: {type(failure).__name__}"
                    values.append(Seen(key=key, person=of, unread=odd))
        return values

    def value_pieces(self, setting: str, of: str, value: Scalar) -> tuple[Piece, ...]:
        """The setting's file, with another value."""
        below = f"{SETTINGS_FOLDER}/{setting}{f'.{of}' if of else ''}.json"
        before = read(str(self._folder), below)
        if not isinstance(before, File):
            raise FileNotFoundError(errno.ENOENT, "no such setting", setting)
        pretended = PretendedValue.model_validate_json(before.data)
        text = pretended.model_copy(update={"value": value}).model_dump_json()
        return (Piece(path=below, before=before, after=File.of(text.encode(), before.mode)),)

    def _file_of(self, key: str) -> tuple[Path, Program]:
        for path in sorted((self._folder / STARTUP_FOLDER).glob("*.json")):
            try:
                listed = Program.model_validate_json(path.read_bytes())
            except (OSError, ValidationError):
                continue
            if listed.key == key:
                return path, listed
        raise FileNotFoundError(errno.ENOENT, "no such program", key)

    def starts(self) -> list[BootCost]:
        """Its starts, oldest first; one bad line costs only itself."""
        try:
            lines = (self._folder / STARTS_FILE).read_bytes().splitlines()
        except FileNotFoundError:
            return []
        starts = []
        for line in lines:
            try:
                starts.append(BootCost.model_validate_json(line))
            except ValidationError:
                continue
        return starts

    @property
    def is_cut_off(self) -> bool:
        """Whether it was started without what it needs to reach the service."""
        starts = self.starts()
        ran = starts[-1].programs if starts else None
        return ran is not None and any(key not in ran for key in self._behaviour().cut_off_without)

    def start_anew(self, at: datetime) -> BootCost:
        """Pretend to start: what comes back does so, and it costs what starts now."""
        behaviour = self._behaviour()
        for key in behaviour.comes_back:
            self._switch_on(key)
        number = len(self.starts())
        programs = {program.key: program for program in self.programs() if not program.unread}
        dearer = 1.0
        for key, factor in behaviour.dearer_without.items():
            if key in programs and programs[key].now is not Intent.AT_START:
                dearer *= factor
        chance = Random(f"{self._host}:{number}")
        whole = dearer * chance.lognormvariate(0, _WHOLE)
        costs = {}
        # the same chance for each program whichever others run
        for key, program in sorted(programs.items()):
            scatter = chance.lognormvariate(0, _EACH)
            cost = program.cost.processor_ms / 1000 if program.cost else 0.1
            if program.now in _SHARE:
                costs[key] = round(cost * _SHARE[program.now] * whole * scatter, 3)
        start = BootCost(
            boot=sha256(f"{self._host}:{number}".encode()).hexdigest()[:32],
            at=at,
            programs=costs,
            unattributed=round(_REST * whole * chance.lognormvariate(0, _EACH), 3),
            left_out=LeftOut.AFTER_UPDATES if number % _UPDATED_EACH == 5 else None,
        )
        with open(self._folder / STARTS_FILE, "ab") as file:
            file.write(start.model_dump_json(exclude_none=True).encode() + b"\n")
        return start

    def _switch_on(self, key: str) -> None:
        try:
            path, listed = self._file_of(key)
        except FileNotFoundError:
            return
        back = listed.model_copy(
            update={
                "starters": tuple(
                    s.model_copy(update={"on": True, "later": False, "barred": False})
                    if s.is_main
                    else s
                    for s in listed.starters
                )
            }
        )
        if back != listed:
            text = back.model_dump_json(exclude_defaults=True, indent=1)
            part = path.with_suffix(".part")
            part.write_text(text, encoding="utf-8")
            part.replace(path)
