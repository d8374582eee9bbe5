"""What came of a check: clean, findings, or that nobody could look."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from enum import StrEnum
from typing import Annotated

from pydantic import Field, model_validator

from phylax.core.checks.kind import kinds
from phylax.core.ground.names import Key
from phylax.core.ground.quantities import headed
from phylax.core.ground.text import Text
from phylax.core.ground.values import Moment, Value

MOST_CHECKED = 200
"""Volumes and disks of one run."""
MOST_FINDINGS = 500
"""Of one check; what comes after them is counted."""


class Severity(StrEnum):
    """How bad a finding is."""

    NOTE = "note"
    """Worth knowing; nothing has to be done."""
    WARNING = "warning"
    """Somebody has to see to it."""
    FAILING = "failing"
    """Something is about to be lost: save the data first."""


class Result(StrEnum):
    """What a check came to. Only findings stop what comes after."""

    CLEAN = "clean"
    FINDINGS = "findings"
    COULD_NOT_LOOK = "could not look"


class Finding(Value):
    """One thing that a check found."""

    severity: Severity
    what: Text = Field(description="In a sentence that a technician would say")
    where: Text = Field("", description="The volume, disk or file")
    evidence: Text = Field("", description="What the system or tool said of it")

    @property
    def needs_somebody(self) -> bool:
        return self.severity is not Severity.NOTE


class Checked(Value):
    """What one check of one volume, disk or machine came to."""

    check: Key
    mode: Key | Annotated[str, Field(max_length=0)] = ""
    target: Text = Field(description="The volume or disk; empty for the machine")
    result: Result
    why: Text = Field("", description="Why nobody could look")
    findings: Annotated[tuple[Finding, ...], Field(max_length=MOST_FINDINGS)] = ()
    unlisted: int = Field(0, ge=0, description="Findings beyond those that are listed")
    counters: dict[Text, int] = Field(
        default_factory=dict, max_length=50, description="What a disk has counted of itself"
    )
    units: int = Field(0, ge=0, description="How much was gone through, in what the check counts")
    digests: dict[Text, Text] = Field(
        default_factory=dict, max_length=MOST_FINDINGS, description="SHA-256 of files named above"
    )
    started_at: Moment
    ended_at: Moment

    @model_validator(mode="after")
    def _says_what_it_is(self) -> Checked:
        serious = any(finding.needs_somebody for finding in self.findings) or self.unlisted > 0
        if (self.result is Result.FINDINGS) != serious:
            raise ValueError("findings are what needs somebody, and nothing else is")
        if (self.result is Result.COULD_NOT_LOOK) != bool(self.why):
            raise ValueError("who could not look says why, and nobody else does")
        return self

    @property
    def is_failing(self) -> bool:
        return any(finding.severity is Severity.FAILING for finding in self.findings)

    @property
    def in_words(self) -> str:
        """One sentence for the record."""
        kind = kinds().get(self.check)
        of = self.target or (kind.name if kind else self.check)
        where = headed(of)
        if self.result is Result.COULD_NOT_LOOK:
            return f"{where} could not look, {self.why}"
        if self.result is Result.CLEAN:
            return f"{where} clean"
        worst = max(self.findings, key=lambda finding: list(Severity).index(finding.severity))
        others = len(self.findings) + self.unlisted - 1
        return f"{where} {worst.what}" + (f", and {others} more" if others else "")


def looked(
    check: str,
    of: str,
    started_at: Moment,
    findings: Sequence[Finding],
    counters: Mapping[str, int] | None = None,
    *,
    units: int = 0,
    mode: str = "",
    digests: Mapping[str, str] | None = None,
) -> Checked:
    """What a check that could look came to, ended now."""
    listed = tuple(findings[:MOST_FINDINGS])
    more = len(findings) - len(listed)
    serious = any(finding.needs_somebody for finding in listed) or more > 0
    return Checked(
        check=check,
        mode=mode,
        target=of,
        result=Result.FINDINGS if serious else Result.CLEAN,
        findings=listed,
        unlisted=more,
        counters=dict(counters or {}),
        units=units,
        digests=dict(digests or {}),
        started_at=started_at,
        ended_at=datetime.now(UTC),
    )


def could_not_look(check: str, of: str, started_at: Moment, why: str) -> Checked:
    """Nobody could look, and why; it stops nothing."""
    return Checked(
        check=check,
        target=of,
        result=Result.COULD_NOT_LOOK,
        why=why[:500],
        started_at=started_at,
        ended_at=datetime.now(UTC),
    )
