"""What may be sent again when no answer came: the same once more must not do it twice."""

from __future__ import annotations

import fnmatch

ONCE = (
    "/calendars",
    "/clients",
    "/clients/*/forgetting",
    "/clients/*/retire",
    "/clients/*/return",
    "/consents",
    "/hooks",
    "/imports",
    "/known-programs",
    "/machines",
    "/machines/*/advice",
    "/machines/*/retire",
    "/machines/*/return",
    "/machines/*/standing-consents",
    "/ordered-parts/*/state",
    "/people",
    "/protections",
    "/records",
    "/reports",
    "/reports/*/mail",
    "/rounds",
    "/routines",
    "/routines/*/runs",
    "/runs",
    "/runs/again",
    "/shared-changes",
    "/tokens",
    "/visits",
    "/visits/*/hand-over",
    "/visits/*/turn",
    "/visits/*/parts",
    "/visits/*/ready",
    "/visits/*/sealed-notes",
    "/waiting-listings/agree",
)
"""Posts that the service carries out once however often they come with the same `Idempotency-Key`,
by path; a test compares them with the service."""
READS = ("*/preview", "*/what-if", "*/verification")
"""Posts that only ask."""


def is_repeatable(method: str, path: str) -> bool:
    """Whether a request of which it is not known if it arrived may be sent again."""
    if method != "POST":
        return method == "GET"
    path = path.removeprefix("/api/v2")
    depth = path.count("/")
    return any(
        fnmatch.fnmatchcase(path, pattern)
        for pattern in (*(p for p in ONCE if p.count("/") == depth), *READS)
    )
