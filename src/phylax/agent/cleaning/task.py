"""What is gone over in one pass of a cleaning."""

from __future__ import annotations

from dataclasses import dataclass

from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.protocol import AgreedListing, CategoryRule
from phylax.core.protocol.trusted_time import Believed
from phylax.core.retention import ProtectEntry, RuleInForce


@dataclass(frozen=True)
class CleaningPass:
    """The categories of one pass, and by which rules, consents and time they are gone over."""

    run_id: int
    keys: tuple[str, ...]
    rules: tuple[CategoryRule, ...]
    now: Believed
    protect: tuple[ProtectEntry, ...] = ()
    standing: tuple[str, ...] = ()
    """`ask` categories that go by their rule, by a standing consent."""
    agreed: tuple[AgreedListing, ...] = ()
    volumes: VolumeChoice = ALL_VOLUMES
    """On others nothing goes, agreed to or not."""

    def rule(self, key: str) -> RuleInForce:
        """KeyError where the order has none for a category."""
        return {rule.category: rule.rule for rule in self.rules}[key]

    def listings_of(self, key: str) -> list[AgreedListing]:
        """What was agreed to item by item."""
        return [listing for listing in self.agreed if listing.category == key]
