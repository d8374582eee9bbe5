"""Advice that a machine's own figures speak for: proposed, kept up to date, withdrawn."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.desk.advice import AdviceStatus, GivenAdvice, Proposal, proposals
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds
from phylax.core.inventory import HardwareListed
from phylax.store.checks import inventories
from phylax.store.clients import shop
from phylax.store.desk import advice
from phylax.store.trends import outlooks

_BY = "Phylax"


def _says(kept: GivenAdvice, proposal: Proposal) -> bool:
    return (kept.text, kept.figures) == (proposal.text, proposal.figures)


def propose(conn: Connection, machine_id: int, *, at: int) -> None:
    """What nobody has told the client yet follows the figures; what people said of it stays."""
    machine = shop.machine(conn, machine_id)
    if machine is None:
        return
    row = conn.execute("SELECT removable FROM machines WHERE id = ?", (machine_id,)).fetchone()
    can_go = Tally.model_validate_json(row["removable"]).size if row["removable"] else 0
    today = from_seconds(at).date()
    hardware = inventories.of_kind(conn, machine_id, "hardware")
    speaks_for = proposals(
        machine.volumes,
        outlooks.of_machines(conn, [machine_id]),
        hardware if isinstance(hardware, HardwareListed) else None,
        can_go,
    )
    known = {(kept.kind, kept.subject): kept for kept in advice.of_machine(conn, machine_id)}
    for proposal in speaks_for:
        kept = known.pop((proposal.kind, proposal.subject), None)
        if kept is None:
            advice.add(conn, machine_id, proposal, AdviceStatus.PROPOSED, who=_BY, at=at)
            continue
        if kept.status is AdviceStatus.DECLINED and kept.comes_up(today):
            # the time is over in which the client said not now, and the figures still speak for it
            advice.set_status(
                conn, kept.id, AdviceStatus.PROPOSED, who=_BY, word="asked again", at=at
            )
            advice.refresh(conn, kept.id, proposal)
        elif kept.status is AdviceStatus.PROPOSED and not _says(kept, proposal):
            advice.refresh(conn, kept.id, proposal)
    for kept in known.values():
        if kept.status is AdviceStatus.PROPOSED and kept.made_by == _BY:
            advice.withdraw(conn, kept.id)
