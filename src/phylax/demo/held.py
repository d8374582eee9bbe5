"""Something that can be put back: a cleaning of the made-up shop that its machine does for real."""

from __future__ import annotations

from phylax.client import Phylax, sign_in
from phylax.core.runs.runs import Run
from phylax.demo.scenario import PASSWORD

MACHINE, CATEGORY = "choir-server", "downloads"
_MOST = 8


def order(url: str) -> Run:
    """Tobias cleans old downloads on Orla's word; they are held for two weeks."""
    with Phylax(url, sign_in(url, "tobias", PASSWORD)) as shop:
        survey = shop.machines.ledger(MACHINE).survey_id
        proposed = [
            item.number for item in shop.surveys.listing(survey, CATEGORY) if item.reason is None
        ]
        consent = shop.surveys.consent(
            survey,
            CATEGORY,
            numbers=proposed[:_MOST],
            via="console",
            comment="Orla Finch: the oldest may go",
        )
        return shop.runs.clean(MACHINE, [CATEGORY], consents=[consent.id])
