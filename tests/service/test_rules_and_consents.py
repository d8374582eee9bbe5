"""Rules at their scopes, and a yes that covers exactly what was listed."""

from datetime import timedelta
from pathlib import Path

import pytest

from conftest import Service
from helpers import enrol, make_file, make_standin, needs_attention
from phylax.client import ChangedMeanwhileError, NotFoundError, Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.retention import Rule, Scope
from phylax.core.retention.consents import NewConsent
from phylax.service.context.context import Context

DAY = timedelta(days=1)


def test_the_nearest_scope_wins_and_the_source_is_told(owner: Phylax, machine: Machine) -> None:
    def now() -> tuple[int, str]:
        rule = owner.machines.rules(machine.id)["trash"]
        return rule.keep_for.days, rule.source

    assert now() == (30, "catalogue")
    owner.rules.put(Scope.SHOP, 0, "trash", Rule(keep_for=14 * DAY))
    assert now() == (14, "shop")
    owner.rules.put(Scope.MACHINE, machine.id, "trash", Rule(keep_for=3 * DAY))
    owner.rules.put(Scope.CLIENT, machine.client_id, "trash", Rule(keep_for=7 * DAY))
    assert now() == (3, "machine")
    other = owner.clients.add(ClientEdit(name="Others"))
    elsewhere = owner.machines.add(MachineEdit(tag="elsewhere", client_id=other.id, system="linux"))
    assert owner.machines.rules(elsewhere.id)["trash"].keep_for.days == 14
    (line,) = [line for line in owner.rules.list() if line.category == "trash"]
    assert (line.in_words, line.in_force.source, line.overrides) == ("keep for 14 days", "shop", 2)


def test_a_rule_somebody_else_changed_is_not_overwritten(
    owner: Phylax, service: Service, machine: Machine
) -> None:
    mine = owner.rules.put(Scope.MACHINE, machine.id, "trash", Rule(keep_for=5 * DAY))
    with service.as_("wren") as wren:
        wren.rules.put(
            Scope.MACHINE, machine.id, "trash", Rule(keep_for=6 * DAY), version=mine.version
        )
    with pytest.raises(ChangedMeanwhileError, match="Wren Halloran"):
        owner.rules.put(
            Scope.MACHINE, machine.id, "trash", Rule(keep_for=7 * DAY), version=mine.version
        )
    assert owner.rules.get(Scope.MACHINE, machine.id, "trash").rule.keep_for == 6 * DAY


@pytest.mark.parametrize(
    ("scope", "subject", "key", "status"),
    [
        (Scope.CATALOGUE, 0, "trash", 403),
        (Scope.SHOP, 3, "trash", 404),
        (Scope.CLIENT, 99, "trash", 404),
        (Scope.MACHINE, 99, "trash", 404),
        (Scope.SHOP, 0, "tea-leaves", 404),
    ],
)
def test_rules_for_what_is_not_there_are_refused(
    owner: Phylax, scope: Scope, subject: int, key: str, status: int
) -> None:
    with pytest.raises(RefusedError) as refused:
        owner.rules.put(scope, subject, key, Rule(off=True))
    assert refused.value.status == status
    with pytest.raises(NotFoundError):
        owner.rules.get(scope, subject, key)


@pytest.fixture
def survey_id(owner: Phylax, machine: Machine, tmp_path: Path) -> int:
    """A machine with 450 downloads, 300 of them old enough for its rule."""
    home = make_standin(tmp_path / "m")
    for number in range(450):
        make_file(home / f"Downloads/f{number:03d}", 10, days_old=200 if number < 300 else 5)
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=90 * DAY))
    owner.runs.survey(machine.id)
    enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m").once()
    return owner.machines.ledger(machine.id).survey_id


def test_the_whole_listing_comes_in_pages_and_in_order(owner: Phylax, survey_id: int) -> None:
    listing = list(owner.surveys.listing(survey_id, "downloads"))
    assert [item.number for item in listing] == list(range(1, 451))
    assert sum(item.reason is None for item in listing) == 300
    assert len({item.path for item in listing}) == 450


def test_a_yes_to_the_whole_is_a_yes_to_what_was_proposed(
    owner: Phylax, machine: Machine, survey_id: int, context: Context
) -> None:
    consent = owner.surveys.consent(survey_id, "downloads", comment="by letter")
    assert (consent.whole, consent.items, consent.size) == (True, 300, 3000)
    assert consent.given_by == "Ines Marrow" and consent.used_by_run is None
    run = owner.runs.clean(machine.id, ["downloads"], consents=[consent.id])
    assert run.expected is not None and run.expected.count == 300
    (kept,) = owner.machines.consents(machine.id)
    assert kept.used_by_run == run.id
    assert [a.cause for a in needs_attention(context, owner)] == []


@pytest.mark.parametrize(
    ("what", "complaint"),
    [
        ({"category": "user-temp", "whole": True}, "needs no consent"),
        ({"category": "tea-leaves", "whole": True}, "no category"),
        ({"category": "downloads", "numbers": (1, 451, 999)}, "451, 999"),
        ({"category": "downloads", "survey_id": 77, "whole": True}, "no survey 77"),
    ],
)
def test_a_yes_that_covers_nothing_real_is_refused(
    owner: Phylax, survey_id: int, what: dict, complaint: str
) -> None:
    new = NewConsent.model_validate({"survey_id": survey_id} | what)
    with pytest.raises(RefusedError, match=complaint):
        owner.send("POST", "/consents", body=new)


def test_a_yes_belongs_to_its_machine_and_category(
    owner: Phylax, machine: Machine, survey_id: int
) -> None:
    consent = owner.surveys.consent(survey_id, "downloads", numbers=[1])
    other = owner.machines.add(
        MachineEdit(tag="other", client_id=machine.client_id, system="linux")
    )
    with pytest.raises(RefusedError, match="not for this machine"):
        owner.runs.clean(other.id, ["downloads"], consents=[consent.id])
    with pytest.raises(RefusedError, match="not among the categories to clean"):
        owner.runs.clean(machine.id, ["trash"], consents=[consent.id])
    with pytest.raises(RefusedError, match="no category 'tea'"):
        owner.runs.clean(machine.id, ["tea"])


def test_earlier_surveys_can_be_looked_up(owner: Phylax, machine: Machine, survey_id: int) -> None:
    assert [s.id for s in owner.machines.surveys(machine.id)] == [survey_id]
    assert owner.surveys.get(survey_id).lines[0].total.count == 450
    assert owner.surveys.ledger(survey_id).needs_approval.count == 300
