"""Rules refused and removed, protect lists, standing consents, partial looks, what-if."""

from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import Service
from helpers import INVENTED, TUESDAY, Clock, enrol, make_file, make_standin, needs_attention
from phylax.agent.runtime.loop import Agent
from phylax.client import NotFoundError, Phylax, RefusedError
from phylax.core.catalogue import catalogue, read_category
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.tally import Tally
from phylax.core.protocol import SurveyMessage, SurveyPartMessage
from phylax.core.retention import ProtectEntry, ProtectKind, Rule, Scope, in_force
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep, StepKind
from phylax.core.survey import Cover, SurveyKind, SurveyLine
from phylax.core.survey.what_if import STALE_AFTER
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler
from phylax.service.runs import dispatch, ingest

DAY = timedelta(days=1)
PATTERN = ProtectEntry(kind=ProtectKind.PATTERN, pattern="*.dcm")


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return make_standin(tmp_path / "m")


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, home: Path, clock: Clock) -> Agent:
    clock.now = datetime.now(UTC)  # agents go by the real clock
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


def look(owner: Phylax, machine: Machine, agent: Agent) -> int:
    owner.runs.survey(machine.tag)
    agent.once()
    return owner.machines.ledger(machine.tag).survey_id


# --- rules -----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("key", "rule", "field", "why"),
    [
        ("programs", Rule(keep_newest=3), "keep_newest", "only ever listed"),
        ("own-folders", Rule(hold_for=timedelta(0)), "hold_for", "at least 1 day"),
        ("restore-points", Rule(keep_newest=0), "keep_newest", "too few"),
        ("trash", Rule(folders=("/srv/x",)), "folders", "only own-folders"),
    ],
)
def test_a_dangerous_rule_is_refused_at_its_field_and_nothing_is_kept(
    owner: Phylax, key: str, rule: Rule, field: str, why: str
) -> None:
    with pytest.raises(RefusedError, match=why) as caught:
        owner.rules.put(Scope.SHOP, 0, key, rule)
    assert caught.value.status == 422
    assert [e["pointer"] for e in caught.value.body["errors"]] == [f"/{field}"]
    with pytest.raises(NotFoundError):
        owner.rules.get(Scope.SHOP, 0, key)


def test_a_scope_that_says_nothing_any_more_lets_the_farther_one_count(
    owner: Phylax, machine: Machine
) -> None:
    owner.rules.put(Scope.SHOP, 0, "trash", Rule(keep_for=14 * DAY))
    said = owner.rules.put(Scope.MACHINE, machine.id, "trash", Rule(keep_newest=2))
    rule = owner.machines.rules(machine.id)["trash"]
    assert (rule.source_of("keep_for"), rule.source_of("keep_newest")) == ("shop", "machine")
    assert [r.category for r in owner.rules.said(Scope.MACHINE, machine.id)] == ["trash"]
    owner.rules.remove(said)
    assert owner.machines.rules(machine.id)["trash"].keep_newest == 0
    assert owner.people.audit(most=1)[0].action == "remove rule"
    with pytest.raises(NotFoundError):
        owner.rules.remove(said)


def test_all_rules_go_out_and_in_as_one_file_with_a_dry_run(
    owner: Phylax, service: Service, machine: Machine
) -> None:
    owner.rules.put(Scope.SHOP, 0, "trash", Rule(keep_for=14 * DAY))
    owner.rules.put(Scope.CLIENT, machine.client_id, "journal", Rule(keep_newest=3))
    owner.protections.add(PATTERN, note="pictures")
    text = owner.rules.document()
    assert owner.rules.apply_document(text).differences == ()
    changed = (
        text.replace("14 days", "10 days").replace('[client."Skerry Ferry Office".journal]',
                                                   "[machine.ferry-desk.journal]")
        + '\n[[protect]]\nmachine = "ferry-desk"\nfolder = "/srv/archive"\n'
    )  # fmt: skip
    differences = owner.rules.apply_document(changed)
    assert [(d.what, d.subject) for d in differences.differences] == [
        ("removed rule", "Skerry Ferry Office"), ("new rule", "ferry-desk"), ("changed rule", ""),
        ("new protection", "ferry-desk"),
    ]  # fmt: skip
    assert not differences.applied and owner.rules.document() == text, "a dry run changes nothing"
    done = owner.rules.apply_document(changed, dry_run=False)
    assert done.applied and done.differences == differences.differences
    assert owner.machines.rules(machine.id)["trash"].keep_for == 10 * DAY
    assert owner.people.audit(most=1)[0].action == "replace rules"
    with service.as_("wren") as wren, pytest.raises(RefusedError, match="owner's to change"):
        wren.rules.apply_document(text, dry_run=False)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("[shop", "no TOML"),
        ("[machine.nowhere.trash]\noff = true", "there is no machine 'nowhere'"),
        ("[shop.restore-points]\nkeep_newest = 0", "at least 1 of each"),
        ('[shop.trash]\noff = false\n[shop.programs]\nkeep_newest = 1', "only ever listed"),
    ],
)  # fmt: skip
def test_a_file_with_a_mistake_changes_nothing_at_all(owner: Phylax, text: str, why: str) -> None:
    before = owner.rules.document()
    with pytest.raises(RefusedError, match=why):
        owner.rules.apply_document(text, dry_run=False)
    assert owner.rules.document() == before


# --- what-if ---------------------------------------------------------------------------------


def test_what_if_over_the_shop_equals_a_new_survey_under_that_rule(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, clock: Clock
) -> None:
    for days in (1, 5, 9, 20, 45):
        make_file(home / f".tmp/f{days}", 100 * days, days_old=days + 0.2)
    other = owner.clients.add(ClientEdit(name="Others"))
    for tag, system in (("never", "linux"), ("mac", "macos")):
        owner.machines.add(
            MachineEdit.model_validate({"tag": tag, "client_id": other.id, "system": system})
        )
    look(owner, machine, agent)
    rule = Rule(keep_for=8 * DAY)
    answer = owner.rules.what_if("user-temp", rule)
    assert (
        answer.removable_now.count,
        answer.removable_then.count,
        answer.removable_then.size,
    ) == (5, 3, 7400)
    assert (answer.machines, answer.never_surveyed, answer.exact) == (1, 2, True)
    assert [m.machine_tag for m in answer.most] == ["ferry-desk"]
    assert owner.rules.what_if("journal", Rule(keep_for=DAY)).never_surveyed == 1, "no mac has one"
    for scope, subject, machines in (
        (Scope.CLIENT, other.id, 0), (Scope.CLIENT, machine.client_id, 1),
        (Scope.MACHINE, machine.id, 1),
    ):  # fmt: skip
        asked = owner.rules.what_if("user-temp", rule, scope=scope, subject_id=subject)
        assert asked.machines == machines
    owner.rules.put(Scope.SHOP, 0, "user-temp", rule)
    look(owner, machine, agent)
    line = next(li for li in owner.machines.ledger(machine.tag).lines if li.category == "user-temp")
    assert line.removable == answer.removable_then
    clock.pass_(STALE_AFTER + DAY)
    assert owner.rules.what_if("user-temp", rule).stale == 1
    with pytest.raises(RefusedError, match="only ever listed"):
        owner.rules.what_if("programs", Rule(keep_newest=1))


# --- protect list ----------------------------------------------------------------------------


def test_each_scope_adds_and_the_test_names_the_entry(
    owner: Phylax, service: Service, machine: Machine, agent: Agent, home: Path
) -> None:
    shops = owner.protections.add(PATTERN, note="pictures")
    folder = ProtectEntry(kind=ProtectKind.FOLDER, pattern="/home/anna/.tmp/keep")
    with service.as_("wren") as wren:
        mine = wren.protections.add(folder, scope=Scope.MACHINE, subject_id=machine.id)
        with pytest.raises(RefusedError, match="owner's to change"):
            wren.protections.add(folder)
        with pytest.raises(RefusedError, match="owner's to change"):
            wren.protections.remove(shops.id)
        with pytest.raises(RefusedError, match="already on that protect list"):
            wren.protections.add(folder, scope=Scope.MACHINE, subject_id=machine.id)
    assert [p.id for p in owner.protections.list(machine.tag)] == [shops.id, mine.id]
    asked = owner.protections.test(machine.tag, path="/home/anna/x/a.dcm")
    assert asked.protected_by is not None and asked.protected_by.note == "pictures"
    assert owner.protections.test(machine.tag, path="/home/anna/x/a.odt").protected_by is None
    assert owner.protections.test(machine.tag, site="a.example").protected_by is None
    for name in ("keep/a", "b.dcm", "c"):
        make_file(home / ".tmp" / name, 100, days_old=9)
    look(owner, machine, agent)
    owner.runs.clean(machine.tag, ["user-temp"])
    agent.once()
    assert {p.name for p in (home / ".tmp").rglob("*") if p.is_file()} == {"a", "b.dcm"}
    owner.protections.remove(shops.id)
    owner.runs.clean(machine.tag, ["user-temp"])
    agent.once()
    assert {p.name for p in (home / ".tmp").rglob("*") if p.is_file()} == {"a"}


# --- consent ---------------------------------------------------------------------------------


def test_it_is_said_of_each_entry_where_it_covers_something_and_where_nothing(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, clock: Clock, context: Context
) -> None:
    kept = owner.protections.add(PATTERN)
    there, nowhere = (
        owner.protections.add(ProtectEntry(kind=ProtectKind.FOLDER, pattern=what))
        for what in ("/home/anna/.tmp/empty", "/home/anna/.tpm")
    )
    (home / ".tmp/empty").mkdir(parents=True)
    make_file(home / ".tmp/b.dcm", 100, days_old=9)
    look(owner, machine, agent)
    late = owner.protections.add(ProtectEntry(kind=ProtectKind.SITE, pattern="a.example"))

    def covered() -> dict[int, tuple[int, int, int, int]]:
        listed = owner.protections.list()
        assert listed == owner.protections.list(machine.tag)  # the shop has one machine
        return {p.id: (p.covers, p.covers_nothing, p.not_known, p.kept) for p in listed}

    assert covered() == {
        kept.id: (1, 0, 0, 1), there.id: (1, 0, 0, 0), nowhere.id: (0, 1, 0, 0),
        late.id: (0, 0, 1, 0),
    }  # fmt: skip
    (on,) = owner.protections.on_machines(nowhere.id)
    assert (on.tag, on.covers, on.surveyed_at is not None) == (machine.tag, False, True)
    assert owner.protections.on_machines(late.id)[0].surveyed_at is None
    # what an agent says of entries that nobody made is nobody's
    run = owner.runs.survey(machine.tag)
    invented = ProtectEntry(kind=ProtectKind.FOLDER, pattern="/invented")
    message = SurveyMessage(
        id="survey-of-a-liar", run_id=run.id, survey_kind=SurveyKind.FIRST, started_at=clock.now,
        ended_at=clock.now, lines=(),
        covers=tuple(Cover(entry=e, exists=True, kept=Tally()) for e in (invented, PATTERN)),
    )  # fmt: skip
    agent._link.report(message)
    assert covered()[kept.id] == (1, 0, 0, 0) and covered()[there.id] == (0, 0, 1, 0)
    with context.db.read() as conn:
        stored = [row[0] for row in conn.execute("SELECT pattern FROM protection_covers")]
    assert stored == [PATTERN.pattern]
    agent.once()
    (home / ".tmp/b.dcm").unlink()
    look(owner, machine, agent)
    assert covered()[kept.id] == (0, 1, 0, 0) and covered()[late.id] == (0, 1, 0, 0)


def test_a_standing_consent_counts_until_it_is_taken_back(
    owner: Phylax,
    service: Service,
    machine: Machine,
    agent: Agent,
    home: Path,
    clock: Clock,
    context: Context,
) -> None:
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=30 * DAY))
    (home / "Downloads").mkdir()
    clean = RoutineStep(kind=StepKind.CLEAN, categories=("user-temp", "downloads"))
    routine = owner.routines.add(RoutineEdit(name="Both", steps=(clean,)))
    update = {
        "machine_ids": (machine.id,), "routine_id": routine.id, "catch_up": timedelta(days=8),
    }  # fmt: skip
    owner.rounds.add(TUESDAY.model_copy(update=update))

    def a_week_later() -> set[str]:
        make_file(home / "Downloads" / f"{clock.now:%d%m}-old.zip", days_old=90)
        make_file(home / "Downloads/young.zip")
        clock.pass_(timedelta(days=7))
        owner.machines.get(machine.tag)
        scheduler.tick(service.context)
        agent.once()
        return {p.name for p in (home / "Downloads").iterdir()}

    assert len(a_week_later()) == 2, "without a yes it is only listed"
    assert [a.cause for a in needs_attention(context, owner)] == ["needs approval"]
    given = owner.standing_consents.give(machine.tag, "downloads", comment="agreed in the contract")
    with pytest.raises(RefusedError, match="has a standing consent"):
        owner.standing_consents.give(machine.tag, "downloads")
    with pytest.raises(RefusedError, match="needs no consent"):
        owner.standing_consents.give(machine.tag, "trash")
    assert a_week_later() == {"young.zip"}
    assert needs_attention(context, owner) == []
    owner.standing_consents.take_back(given.id)
    with pytest.raises(RefusedError, match="has withdrawn it already"):
        owner.standing_consents.take_back(given.id)
    assert len(a_week_later()) == 2
    (consent,) = owner.standing_consents.list(machine.tag)
    assert (consent.given_by, consent.comment, consent.taken_back_by) == (
        "Ines Marrow", "agreed in the contract", "Ines Marrow",
    )  # fmt: skip


# --- surveys ---------------------------------------------------------------------------------


def test_a_look_shows_what_it_has_found_so_far_and_keeps_it_when_stopped(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, context: Context
) -> None:
    whole = look(owner, machine, agent)
    run = owner.runs.survey(machine.tag)
    rule = in_force([(Scope.CATALOGUE, catalogue()["trash"].rule)])
    line = SurveyLine(
        category="trash", mount="/", rule=rule, total=Tally(count=1, size=9), removable=Tally(),
        digest="",
    )  # fmt: skip
    with context.db.write() as conn:
        assert dispatch.offer(conn, machine.id, at=context.now()) is not None
        part = SurveyPartMessage(
            id="part-0001",
            run_id=run.id,
            survey_kind=SurveyKind.FIRST,
            started_at=context.clock(),
            lines=(line,),
        )
        ingest.apply(conn, machine.id, part, at=context.now())
    survey_id = owner.runs.get(run.id).survey_id
    assert survey_id is not None
    so_far = owner.surveys.ledger(survey_id)
    assert ([one.category for one in so_far.lines], so_far.whole) == (["trash"], False)
    assert owner.machines.ledger(machine.tag).survey_id == whole, "the newest whole one counts"
    owner.runs.call_off(run.id)
    agent.once()
    assert owner.surveys.get(survey_id).ended_at is None
    assert owner.machines.ledger(machine.tag).survey_id == whole


def test_listings_come_largest_first_and_summed_by_folder(
    owner: Phylax, machine: Machine, agent: Agent, home: Path
) -> None:
    downloads = home / "Downloads"
    for path, size in (("a.zip", 10), ("films/b.mkv", 900), ("films/old/c.mkv", 500),
                       ("films/old/d.mkv", 500), ("papers/e.pdf", 40)):  # fmt: skip
        make_file(downloads / path, size, days_old=200)
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=30 * DAY))
    survey = look(owner, machine, agent)
    items = owner.surveys.listing(survey, "downloads", largest_first=True)
    assert [item.size for item in items] == [900, 500, 500, 40, 10]

    def sums(**where: str) -> dict[str, tuple[int, int]]:
        return {
            folder.folder: (folder.total.count, folder.proposed.size)
            for folder in owner.surveys.folders(survey, "downloads", **where)
        }

    place = "/home/anna/Downloads"
    assert sums() == {"": (5, 1950)}
    assert sums(place=place) == {"films": (3, 1900), "papers": (1, 40), "": (1, 10)}
    assert sums(place=place, folder="films") == {"films/old": (2, 1000), "films": (1, 900)}
    inside = owner.surveys.listing(survey, "downloads", place=place, folder="films/old")
    assert {item.path for item in inside} == {"films/old/c.mkv", "films/old/d.mkv"}


def test_a_listing_is_ordered_at_once_and_its_rows_come_by_number(
    owner: Phylax, machine: Machine, agent: Agent, home: Path
) -> None:
    for path, days_old in (("new/a", 3), ("new/b", 200), ("old_/c", 200), ("oldx/d", 200)):
        make_file(home / "Downloads" / path, 10 * days_old, days_old=days_old)
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=30 * DAY))
    survey = look(owner, machine, agent)
    order = owner.surveys.order(survey, "downloads")
    paged = list(owner.surveys.listing(survey, "downloads", largest_first=True))
    assert order.numbers == tuple(item.number for item in paged)
    assert order.sizes == tuple(item.size for item in paged) == (2000, 2000, 2000, 30)
    assert order.proposed == tuple(item.reason is None for item in paged)
    place = "/home/anna/Downloads"
    inside = owner.surveys.order(survey, "downloads", place=place, folder="old_")
    assert owner.surveys.order(survey, "downloads", place=place).numbers == order.numbers
    assert [item.path for item in owner.surveys.by_number(survey, "downloads", inside.numbers)] == [
        "old_/c"
    ], "an underscore is only an underscore"
    backwards = [*reversed(order.numbers), 10_000]
    rows = owner.surveys.by_number(survey, "downloads", backwards)
    assert [item.number for item in rows] == backwards[:-1], "what is not in it is left out"
    with pytest.raises(RefusedError) as refused:
        owner.surveys.by_number(survey, "downloads", range(1, 202))
    assert refused.value.status == 422


def test_old_listings_are_let_go_but_not_those_somebody_agreed_to(
    owner: Phylax, machine: Machine, agent: Agent, home: Path, clock: Clock, context: Context
) -> None:
    make_file(home / "Downloads/a.zip", days_old=200)
    make_file(home / "Projects/film.mkv", 10**6, days_old=300)
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=30 * DAY))
    owner.rules.put(Scope.MACHINE, machine.id, "large-and-idle", Rule(only_larger=1000))
    agreed = look(owner, machine, agent)
    owner.surveys.consent(agreed, "downloads")
    with context.db.write() as conn:  # as if it had been forty days ago
        conn.execute("UPDATE surveys SET ended_at = ended_at - 40 * 86400")
    newer = look(owner, machine, agent)

    def held(survey: int, category: str) -> int:
        return len(list(owner.surveys.listing(survey, category)))

    assert (held(agreed, "downloads"), held(agreed, "large-and-idle")) == (1, 0)
    assert (held(newer, "downloads"), held(newer, "large-and-idle")) == (1, 1)


def test_pages_of_a_listing_largest_first_fit_together(
    owner: Phylax, machine: Machine, agent: Agent, home: Path
) -> None:
    for n in range(450):
        make_file(home / f"Downloads/{n:03d}", n % 7, days_old=200)
    survey = look(owner, machine, agent)
    items = list(owner.surveys.listing(survey, "downloads", largest_first=True))
    assert len({item.number for item in items}) == 450
    assert [item.size for item in items] == sorted((n % 7 for n in range(450)), reverse=True)


# --- a category is data ----------------------------------------------------------------------


@pytest.fixture
def tea() -> Iterator[None]:
    """A category added by its TOML alone, as a file in the catalogue would."""
    known = catalogue()
    assert isinstance(known, dict)
    known["tea-leaves"] = read_category(INVENTED.replace('"safe"', '"ask"'))
    yield
    del known["tea-leaves"]


def test_an_invented_category_appears_in_agent_service_and_rules_by_itself(
    tea: None, owner: Phylax, machine: Machine, agent: Agent, home: Path
) -> None:
    make_file(home / ".cache/teapot/green/leaves/cup", 700, days_old=5)
    make_file(home / ".cache/other/file", 300, days_old=50)
    survey = look(owner, machine, agent)
    lines = {line.category: line for line in owner.machines.ledger(machine.tag).lines}
    assert (lines["tea-leaves"].name, lines["tea-leaves"].needs_approval.size) == (
        "Tea leaves",
        700,
    )
    assert lines["user-caches"].total.size == 300, "its files are no other category's any more"
    assert "tea-leaves" in {category.key for category in owner.catalogue()}
    assert "tea-leaves" in {rule.category for rule in owner.rules.list()}
    consent = owner.surveys.consent(survey, "tea-leaves")
    owner.runs.clean(machine.tag, ["tea-leaves"], consents=[consent.id])
    agent.once()
    assert not (home / ".cache/teapot/green/leaves/cup").exists()


Ask = Callable[[Phylax], object]


@pytest.mark.parametrize(
    "ask",
    [
        lambda shop: shop.rules.what_if("tea-leaves", Rule(keep_for=DAY)),
        lambda shop: shop.protections.remove(99),
        lambda shop: shop.protections.list("nowhere"),
        lambda shop: shop.standing_consents.take_back(99),
        lambda shop: shop.rules.said(Scope.MACHINE, 99),
    ],
)
def test_what_is_not_there_is_said(owner: Phylax, ask: Ask) -> None:
    with pytest.raises(NotFoundError, match=r"There is no|says nothing"):
        ask(owner)
