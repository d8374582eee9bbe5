"""What stays and what goes: retention rules, the verdicts they give, and the protect list.

`rules` says what a rule is and how scopes merge, `verdicts` decides by one, `protection` knows what
always stays. Survey, cleanup and what-if all decide with the same `Judge`.
"""

from phylax.core.retention.protection import ProtectEntry, Protection, ProtectKind, ScopedProtection
from phylax.core.retention.rules import (
    Caution,
    PressureStep,
    Reason,
    Rule,
    RuleInForce,
    Scope,
    ScopedRule,
    ShopRule,
    in_force,
)
from phylax.core.retention.verdicts import DATED_AHEAD, Judge, Ranking

__all__ = [
    "DATED_AHEAD",
    "Caution",
    "Judge",
    "PressureStep",
    "ProtectEntry",
    "ProtectKind",
    "Protection",
    "Ranking",
    "Reason",
    "Rule",
    "RuleInForce",
    "Scope",
    "ScopedProtection",
    "ScopedRule",
    "ShopRule",
    "in_force",
]
