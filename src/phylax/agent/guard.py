"""The guard: what is never touched on this machine, whatever an order says.

It is code on the machine. A stolen service can send rules and listings, but no paths: locations
come from this agent's own catalogue and machine kind, and each is held against what the kind seals.
"""

from __future__ import annotations

import os
from collections.abc import Iterable

from phylax.agent.machines import MachineKind
from phylax.core.catalogue import Category
from phylax.core.retention import Caution, RuleInForce


class Guard:
    """Knows the sealed trees and the roots of one machine."""

    def __init__(self, machine: MachineKind, own: Iterable[str] = ()) -> None:
        """`own` are the agent's folders, sealed like people's documents."""
        self._sealed = [os.path.realpath(path) for path in (*machine.sealed(), *own)]
        self._openings = [os.path.realpath(path) for path in machine.openings()]
        self._roots = [os.path.realpath(path) for path in machine.roots()]

    def why_forbidden(self, path: str) -> str | None:
        """Why a location may not be looked through or cleaned, or None.

        Nothing that is, lies in or holds a sealed tree, but for the openings in it; and never a
        root, or what holds one.
        """
        path = os.path.realpath(path)
        opening = max((o for o in self._openings if _is_at_or_in(path, o)), key=len, default="")
        for sealed in self._sealed:
            is_in = _is_at_or_in(path, sealed) and len(sealed) >= len(opening)
            if is_in or _is_at_or_in(sealed, path):
                return f"never touched: {sealed}"
        for root in self._roots:
            if _is_at_or_in(root, path):
                return f"never touched as a whole: {root}"
        return None


def why_not_cleaned(category: Category, rule: RuleInForce, *, agreed: bool) -> str | None:
    """Why this agent does not clean a category, by its own catalogue, or None."""
    if rule.hold_for or category.least_hold:
        return f"{category.key} is to be held first, which this agent cannot do yet"
    if category.caution is Caution.REPORT:
        return f"{category.key} is only ever listed"
    if category.caution is Caution.ASK and not agreed:
        return f"{category.key} needs a person's yes to its listing"
    return None


def is_plain_path(path: str) -> bool:
    """Whether a path below a place is what it seems: relative, without '.', '..' or NUL."""
    return "\0" not in path and all(part not in ("", ".", "..") for part in path.split("/"))


def _is_at_or_in(path: str, root: str) -> bool:
    return path == root or path.startswith(root.rstrip(os.sep) + os.sep)
