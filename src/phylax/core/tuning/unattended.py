"""What a round may change with nobody there, and what waits for a person, and why."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

from phylax.core.tuning.changes import Change, ChangeState
from phylax.core.tuning.rules import PUT_RIGHT_AT_MOST
from phylax.core.tuning.trials import Outcome
from phylax.core.tuning.verdicts import Verdict


class Waits(StrEnum):
    """Why what the rules want is left to a person."""

    NEEDS_YES = "needs approval"
    PUT_BACK = "was put back"
    UNDONE = "undid itself"
    MADE_WORSE = "made it worse"
    ALTERED = "altered since"
    TOO_OFTEN = "comes back again and again"


def why_it_waits(
    verdict: Verdict, history: Sequence[Change], outcome: Outcome | None, *, put_right: bool
) -> Waits | None:
    """Why a verdict that changes something waits for a person; None: it may go unattended.

    `history` are the changes of this program on the machine, newest first; `outcome` is how the
    trial of the newest was judged. `put_right` is what the rule in force says.
    """
    if verdict.needs_approval:
        return Waits.NEEDS_YES
    if not history:
        return None
    newest = history[0]
    ended = {
        ChangeState.PUT_BACK: Waits.PUT_BACK,
        ChangeState.ALTERED: Waits.PUT_BACK,
        ChangeState.UNDONE: Waits.UNDONE,
    }.get(newest.state)
    if ended is not None:
        return ended
    if outcome is Outcome.WORSE:
        return Waits.MADE_WORSE
    if not put_right:
        return Waits.ALTERED
    # the first time it was set is no putting right
    runs = {change.run_id for change in history if change.after == newest.after}
    if len(runs) > PUT_RIGHT_AT_MOST:
        return Waits.TOO_OFTEN
    return None
