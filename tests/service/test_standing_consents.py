"""Under a standing consent question, expectation and account say the same."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from conftest import Service
from helpers import Clock, enrol, make_file, make_standin
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.retention import Rule, Scope


def test_what_a_standing_consent_covers_is_promised_and_told(
    owner: Phylax, service: Service, machine: Machine, clock: Clock, tmp_path: Path
) -> None:
    clock.now = datetime.now(UTC)
    home = make_standin(tmp_path / "m")
    for number in range(5):
        make_file(home / f"Downloads/{number}", 1000, days_old=200)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=timedelta(days=90)))
    owner.standing_consents.give(machine.tag, "downloads", via="console", comment="always")
    owner.runs.survey(machine.tag)
    agent.once()
    ledger = owner.machines.ledger(machine.tag)
    (line,) = (one for one in ledger.lines if one.category == "downloads")
    assert line.standing and line.needs_approval.count == 5
    run = owner.runs.clean(machine.tag, ["downloads"])
    assert run.expected is not None and (run.expected.count, run.expected.size) == (5, 5000)
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.removed is not None and ended.removed.count == 5
    assert ended.balance is not None
    assert not [word for word in ended.balance.why if "new since" in word]
