"""What a run's entry stands on, as digests in the chain."""

from __future__ import annotations

from pathlib import Path

import pytest

from helpers import enrol, make_file, make_standin
from phylax.client import NotFoundError, Phylax
from phylax.core.clients.shop import Machine
from phylax.core.record.evidence import EvidenceKind
from phylax.service.context.context import Context


@pytest.fixture
def run_id(owner: Phylax, machine: Machine, tmp_path: Path) -> int:
    """A cleaning of what somebody agreed to."""
    home = make_standin(tmp_path / "m")
    for number in range(3):
        make_file(home / f"Downloads/f{number}.iso", 2_000_000, days_old=300)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.survey(machine.tag)
    agent.once()
    survey = next(owner.machines.surveys(machine.tag))
    consent = owner.surveys.consent(survey.id, "downloads", numbers=(1, 2), comment="by phone")
    run = owner.runs.clean(machine.tag, ["downloads"], consents=[consent.id])
    agent.once()
    return run.id


def test_listing_consents_and_outcomes_are_in_the_entry_and_hold(
    owner: Phylax, machine: Machine, run_id: int
) -> None:
    evidence = owner.runs.evidence(run_id)
    assert [(each.what, each.valid) for each in evidence] == [
        ("listing", True), ("consents", True), ("outcomes", True),
    ]  # fmt: skip
    assert [each.lines for each in evidence] == [2, 1, 1]
    entry = next(record for record in owner.records.list() if record.run_id == run_id)
    assert entry.evidence == {each.what: each.digest for each in evidence}
    assert owner.records.verify().intact
    looks = [run.id for run in owner.runs.list(machine=machine.tag) if run.work == "survey"]
    assert looks and owner.runs.evidence(looks[0]) == []
    with pytest.raises(NotFoundError):
        owner.runs.evidence(99)


@pytest.mark.parametrize(
    ("action", "what"),
    [
        ("UPDATE consents SET comment = 'never asked'", EvidenceKind.CONSENTS),
        ("DELETE FROM consent_items WHERE number = 1", EvidenceKind.LISTING),
        ("UPDATE survey_items SET item = replace(item, 'f1', 'f9')", EvidenceKind.LISTING),
        ("UPDATE runs SET result = replace(result, '\"count\":2', '\"count\":1')",
         EvidenceKind.OUTCOMES),
        ("UPDATE runs SET result = NULL", EvidenceKind.OUTCOMES),
    ],
)  # fmt: skip
def test_what_was_altered_is_told(
    owner: Phylax, context: Context, run_id: int, action: str, what: EvidenceKind
) -> None:
    with context.db.write() as conn:
        conn.execute(action)
    (wrong,) = [each for each in owner.runs.evidence(run_id) if not each.valid]
    assert wrong.what is what
    assert wrong.why == (
        "it is not kept any more" if "NULL" in action else "it is not what its entry says: it was "
        "altered"
    )  # fmt: skip
    assert owner.records.verify().intact, "the entries themselves are as they were"


def test_salts_cannot_be_exchanged(owner: Phylax, context: Context, run_id: int) -> None:
    with context.db.write() as conn:
        salts = [row[0] for row in conn.execute("SELECT salt FROM run_evidence")]
        assert len(set(salts)) == 3 and {len(salt) for salt in salts} == {16}
        conn.execute("UPDATE run_evidence SET salt = x'00' WHERE kind = 'consents'")
    assert not owner.runs.evidence(run_id)[1].valid
