"""Known programs: the shop's notebook of what programs are and what is to become of them.

A file's name alone never earns anything: a program is recognised by its package, by who signed it
together with its path, or by the digest of its very file. A file that changed is judged anew.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Iterable
from enum import StrEnum
from typing import Annotated

from pydantic import Field, model_validator

from phylax.core.ground.machines import System
from phylax.core.ground.values import Demand, Moment, Value
from phylax.core.tuning.programs import Intent, Program
from phylax.core.tuning.setting import DependsOn

Words = Annotated[str, Field(max_length=500)]


class ProgramDecision(StrEnum):
    """What the shop has decided of a program."""

    STAYS = "stays"
    GOES = "goes"
    HANGS = "hangs on a question"


class Recognition(Demand):
    """How a program is told; one of three ways."""

    package: Annotated[str, Field(max_length=200)] = ""
    signed_by: Words = ""
    path: Words = Field("", description="With a signature; * and ? as in a shell")
    digest: Annotated[str, Field(pattern=r"^([0-9a-f]{64})?$")] = ""

    @model_validator(mode="after")
    def _is_one_way(self) -> Recognition:
        ways = (bool(self.package), bool(self.signed_by and self.path), bool(self.digest))
        if sum(ways) != 1 or bool(self.signed_by) != bool(self.path):
            raise ValueError(
                "a program is recognised by its package, by who signed it together with its path, "
                "or by the SHA-256 of its file; a name or path alone is not enough"
            )
        return self

    def fits(self, program: Program) -> bool:
        """Whether a program is the one meant."""
        if self.package:
            return program.package == self.package
        if self.digest:
            return program.digest == self.digest
        return program.signed_by == self.signed_by and fnmatch.fnmatchcase(
            program.path.replace("\\", "/").lower(), self.path.replace("\\", "/").lower()
        )


class KnownEdit(Demand):
    """What somebody writes about a program."""

    recognition: Recognition
    systems: tuple[System, ...] = Field((), description="Where it counts; empty: everywhere")
    name: Annotated[str, Field(min_length=1, max_length=200)]
    description: Words = Field("", description="What it is, in a sentence a client understands")
    handling: ProgramDecision
    intent: Intent | None = Field(None, description="When it is to run, where it does not stay")
    depends_on: DependsOn | None = Field(None, description="Which answer lets the intent count")

    @model_validator(mode="after")
    def _says_enough(self) -> KnownEdit:
        if (self.handling is ProgramDecision.STAYS) != (self.intent is None):
            raise ValueError("what stays has no intent; everything else says when it is to run")
        if (self.handling is ProgramDecision.HANGS) != (self.depends_on is not None):
            raise ValueError("what hangs on a question names it, and nothing else does")
        return self


class KnownProgram(Value):
    """An entry of the notebook, with who wrote it."""

    id: int
    edit: KnownEdit
    written_by: str
    written_at: Moment
    version: int = 1
    machines: int = Field(0, description="On how many machines it was seen")


def recognise(
    program: Program, system: System, notebook: Iterable[KnownProgram]
) -> KnownProgram | None:
    """The entry about a program; the newest where several fit."""
    fitting = [
        entry
        for entry in notebook
        if entry.edit.recognition.fits(program)
        and (not entry.edit.systems or system in entry.edit.systems)
    ]
    return max(fitting, key=lambda entry: entry.id, default=None)
