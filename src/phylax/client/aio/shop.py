# Written by tools/aio.py from client/families/shop.py; change that one.
# ruff: noqa
"""The shop as a program sees it: a family of calls for each noun."""

from __future__ import annotations
import copy
import asyncio
import time
from collections.abc import AsyncIterator, Mapping, Sequence
from datetime import datetime
from typing import Literal
from phylax.client.aio.archives import Archives
from phylax.client.aio.backups import Backups
from phylax.client.aio.checks import Checks
from phylax.client.aio.decisions import Holds, Protections, Rules, StandingConsents, Surveys
from phylax.client.aio.family import Family, Which
from phylax.client.aio.imports import Imports
from phylax.client.aio.machines import Clients, Machines
from phylax.client.aio.people import People
from phylax.client.aio.planning import Calendars, ClosingDates, Rounds, Routines, WaitingListings
from phylax.client.aio.reports import Reports
from phylax.client.aio.tuning import Programs, Questions, Settings, SharedChanges
from phylax.client.aio.upkeep import Upkeep
from phylax.client.aio.visits import Visits
from phylax.client.aio.watching import Attentions, Hooks, Notices, Trends
from phylax.client.transport.errors import StillRunningError, UnreachableError
from phylax.client.transport.async_http import AsyncHttp
from phylax.core.attention.today import Today
from phylax.core.catalogue import Category
from phylax.core.clients.shop import Machine, Shop, ShopEdit
from phylax.core.ground.values import edit_of
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.hold.holds import HeldPick, IfTaken
from phylax.core.people.accounts import SignIn, TokenShown
from phylax.core.record.attachments import Attachment
from phylax.core.record.evidence import Evidence
from phylax.core.record.proofs import EntryProof, NewProofCheck, ProofCheck
from phylax.core.record.records import ChainCheck, NewNote, Record, RecordKind
from phylax.core.record.seals import NewSealCheck, Seal, SealCheck, SealKey
from phylax.core.record.searching import HitKind, Results
from phylax.core.runs.runs import (
    NewRun,
    Run,
    RunDetail,
    RunsAgain,
    RunsMade,
    WantedProgram,
    WantedSetting,
)
from phylax.core.scheduling.routines import StepState, StepTick

_SEALS: type[list[Seal]] = list[Seal]
"`list` is a method's name below."


async def sign_in(
    url: str,
    login: str,
    password: str,
    code: str = "",
    *,
    clear: bool = False,
    certificate: str | None = None,
) -> str:
    """A new bearer token for a person; `code` is of their second step, where they have one."""
    async with AsyncHttp(url, clear=clear, certificate=certificate) as http:
        who = SignIn(login=login, password=password, code=code)
        return (await http.post(TokenShown, "/command-line/sign-in", who)).token


class Runs(Family):
    """One machine carrying out something once, as soon as it calls.

    Example::

        run = shop.runs.survey("ferry-desk")
        for state in shop.runs.follow(run.id, timeout=600):
            print(state.state, state.progress)
    """

    def list(self, *, machine: Which | None = None) -> AsyncIterator[Run]:
        """Newest first."""
        return self._http.pages(Run, "/runs", machine=machine)

    async def get(self, run_id: int) -> RunDetail:
        """How far one is, or how it went. NotFoundError."""
        return await self._http.get(RunDetail, f"/runs/{run_id}")

    async def survey(self, which: Which, *, volumes: VolumeChoice = ALL_VOLUMES) -> Run:
        """Look through a machine, or some of its volumes, as soon as it calls."""
        machine = await self._http.get(Machine, f"/machines/{which}")
        new = NewRun(machine_id=machine.id, work="survey", volumes=volumes)
        return await self._http.post(Run, "/runs", new)

    async def check(
        self, which: Which, checks: Sequence[str], modes: Mapping[str, str] | None = None
    ) -> Run:
        """Check a machine as soon as it calls; `modes` say how, by check, if not the usual way."""
        machine = await self._http.get(Machine, f"/machines/{which}")
        new = NewRun(
            machine_id=machine.id, work="check", checks=tuple(checks), modes=dict(modes or {})
        )
        return await self._http.post(Run, "/runs", new)

    async def look_at_settings(self, which: Which) -> Run:
        """Read startup programs and what settings are, as soon as the machine calls."""
        machine = await self._http.get(Machine, f"/machines/{which}")
        return await self._http.post(
            Run, "/runs", NewRun(machine_id=machine.id, work="look at settings")
        )

    async def clean(
        self,
        which: Which,
        categories: Sequence[str],
        *,
        consents: Sequence[int] = (),
        volumes: VolumeChoice = ALL_VOLUMES,
        survey_id: int | None = None,
    ) -> Run:
        """Clean categories of a machine, or of some of its volumes, as soon as it calls.

        `survey_id`: where somebody was asked by the figures of a survey. RefusedError where a rule
        or the protect list has changed since, with both versions.
        """
        machine = await self._http.get(Machine, f"/machines/{which}")
        new = NewRun(
            machine_id=machine.id,
            work="clean",
            categories=tuple(categories),
            consent_ids=tuple(consents),
            volumes=volumes,
            survey_id=survey_id,
        )
        return await self._http.post(Run, "/runs", new)

    async def put_back(
        self, which: Which, held: Sequence[HeldPick], *, if_taken: IfTaken = IfTaken.LEAVE
    ) -> Run:
        """Put held things back where they lay, as soon as the machine calls."""
        return await self._about_held(which, "put back", held, if_taken)

    async def let_go(self, which: Which, held: Sequence[HeldPick]) -> Run:
        """Let held things go for good before their time, as soon as the machine calls."""
        return await self._about_held(which, "let go", held, IfTaken.LEAVE)

    async def _about_held(
        self,
        which: Which,
        work: Literal["put back", "let go"],
        held: Sequence[HeldPick],
        if_taken: IfTaken,
    ) -> Run:
        machine = await self._http.get(Machine, f"/machines/{which}")
        new = NewRun(machine_id=machine.id, work=work, held=tuple(held), if_taken=if_taken)
        return await self._http.post(Run, "/runs", new)

    async def change(
        self,
        which: Which,
        wanted: Sequence[WantedProgram] = (),
        *,
        values: Sequence[WantedSetting] = (),
        comment: str = "",
    ) -> Run:
        """Let programs run, and set settings, as the shop's rules want, as soon as the machine
        calls; it is a yes to what needs one."""
        machine = await self._http.get(Machine, f"/machines/{which}")
        new = NewRun(
            machine_id=machine.id,
            work="change settings",
            programs=tuple(wanted),
            values=tuple(values),
            comment=comment,
        )
        return await self._http.post(Run, "/runs", new)

    async def put_settings_back(self, which: Which, changes: Sequence[int]) -> Run:
        """Make everything what it was before some changes, by their numbers."""
        machine = await self._http.get(Machine, f"/machines/{which}")
        new = NewRun(machine_id=machine.id, work="put settings back", changes=tuple(changes))
        return await self._http.post(Run, "/runs", new)

    async def call_off(self, run_id: int) -> Run:
        """Stop it as soon as its machine hears of it; what was done is recorded."""
        return await self._http.post(Run, f"/runs/{run_id}/call-off")

    async def missed(self, since: datetime, *, most: int = 100) -> Sequence[Run]:
        """What was missed since a time, newest first."""
        return await self._http.get(
            list[Run], "/runs", missed_since=since.isoformat(), limit=min(most, 200)
        )

    async def again(self, run_ids: Sequence[int]) -> Sequence[Run]:
        """Do again what failed of some runs."""
        return (
            await self._http.post(RunsMade, "/runs/again", RunsAgain(run_ids=tuple(run_ids)))
        ).runs

    async def tick(
        self, run_id: int, number: int, state: StepState = StepState.DONE, comment: str = ""
    ) -> RunDetail:
        """Tick a step by hand, leave it out with a word, or open it again."""
        edit = StepTick(state=state, comment=comment)
        return await self._http.post(RunDetail, f"/runs/{run_id}/steps/{number}", edit)

    async def evidence(self, run_id: int) -> Sequence[Evidence]:
        """What a run's entry stands on, compared with what the entry says."""
        return await self._http.get(list[Evidence], f"/runs/{run_id}/evidence")

    async def follow(
        self, run_id: int, *, every: float = 0.5, timeout: float | None = None
    ) -> AsyncIterator[RunDetail]:
        """The run each time it has changed, until it has ended.

        A service that cannot be reached for a while is waited for. After `timeout` seconds
        StillRunningError; the run goes on.
        """
        ends = None if timeout is None else time.monotonic() + timeout
        last: RunDetail | None = None
        while True:
            pause = every
            try:
                run = await self.get(run_id)
            except UnreachableError:
                pause = max(every, 1.0)
            else:
                if run != last:
                    yield run
                    last = run
                if run.state.has_ended:
                    return
            if ends is not None and time.monotonic() + pause > ends:
                raise StillRunningError(run_id, last)
            await asyncio.sleep(pause)


class Records(Family):
    """The maintenance record: append-only and chained.

    Example::

        shop.records.add_note("ferry-desk", "The fan was cleaned.")
        for entry in shop.records.list(machine="ferry-desk"):
            print(entry.at, entry.text)
    """

    def list(
        self,
        *,
        machine: Which | None = None,
        client_id: int | None = None,
        visit: int | None = None,
        kinds: Sequence[RecordKind] = (),
        who: str = "",
        since: datetime | None = None,
        until: datetime | None = None,
        words: str = "",
    ) -> AsyncIterator[Record]:
        """Entries chosen by all that is given, newest first."""
        return self._http.pages(
            Record,
            "/records",
            machine=machine,
            client_id=client_id,
            visit=visit,
            kind=[*kinds] or None,
            who=who or None,
            since=since.isoformat() if since else None,
            until=until.isoformat() if until else None,
            words=words or None,
        )

    async def add_note(
        self,
        which: Which,
        text: str,
        *,
        corrects: int | None = None,
        is_call: bool = False,
        attachments: Sequence[Attachment] = (),
    ) -> Record:
        """Write something into a machine's record; a call is what was said with its client, and
        attachments were uploaded before."""
        machine = await self._http.get(Machine, f"/machines/{which}")
        kind: Literal[RecordKind.NOTE, RecordKind.CALL]
        kind = RecordKind.CALL if is_call else RecordKind.NOTE
        note = NewNote(
            machine_id=machine.id,
            text=text,
            corrects=corrects,
            kind=kind,
            attachments=tuple((attachment.id for attachment in attachments)),
        )
        return await self._http.post(Record, "/records", note)

    async def upload(self, name: str, content: bytes) -> Attachment:
        """A picture or PDF for an entry that is written within a day."""
        return await self._http.upload(Attachment, "/attachments", content, name=name)

    async def attachment(self, number: int) -> bytes:
        """The bytes of an attachment."""
        return (await self._http.send("GET", f"/attachments/{number}")).content

    async def verify(self) -> ChainCheck:
        """Follow the chain of digests from the first entry to the last."""
        return await self._http.get(ChainCheck, "/records/verification")

    async def seal(self) -> Seal:
        """Seal the record as it is now; keep the seal elsewhere."""
        return await self._http.post(Seal, "/records/seals")

    async def seals(self) -> Sequence[Seal]:
        """The newest first."""
        return await self._http.get(_SEALS, "/records/seals")

    async def seal_key(self) -> SealKey:
        """The key by which seals are verified."""
        return await self._http.get(SealKey, "/records/seal-key")

    async def prove(self, entry: int) -> EntryProof:
        """A proof that an entry is in the record, by a seal made now."""
        return await self._http.post(EntryProof, f"/records/{entry}/proof")

    async def check_proof(self, proof: str) -> ProofCheck:
        """Whether an entry was in a record that this shop sealed."""
        return await self._http.post(
            ProofCheck, "/records/proofs/verification", NewProofCheck(proof=proof)
        )

    async def check_seal(self, note: str) -> SealCheck:
        """Whether the record still is what a seal says that it was."""
        return await self._http.post(SealCheck, "/records/verification", NewSealCheck(note=note))


class AsyncPhylax(AsyncHttp):
    """One shop's service, as one person.

    Families of calls: `clients`, `machines`, `surveys`, `rules`, `holds`, `protections`,
    `standing_consents`, `waiting_listings`, `runs`, `routines`, `rounds`, `closing_days`,
    `calendars`, `attention`, `trends`, `notices`, `hooks`, `records`, `people`, `programs`,
    `questions`; and what concerns the shop as a whole.
    """

    def __init__(
        self,
        url: str,
        token: str,
        *,
        timeout: float = 30.0,
        clear: bool = False,
        certificate: str | None = None,
        retries: int = 2,
    ) -> None:
        """`token` is a bearer token, from `sign_in` or made in the console. `retries`: how often
        what is safe to repeat is sent again when the service does not answer. ValueError where it
        is no token, ClearHttpError for http to another host without `clear`."""
        super().__init__(
            url, token, timeout=timeout, clear=clear, certificate=certificate, retries=retries
        )
        self._open_families()

    def with_key(self, key: str) -> AsyncPhylax:
        """The same connection, whose next request that makes something carries this
        `Idempotency-Key`, and further ones `key-2`, `key-3` and so on.

        A program that keeps its key may run again after it was cut off, within two days: what was
        done already is not done twice, and gives the same answer.
        """
        keyed = copy.copy(self)
        keyed._key, keyed._keys_used = (key, 0)
        keyed._open_families()
        return keyed

    def _open_families(self) -> None:
        self.clients = Clients(self)
        self.machines = Machines(self)
        self.surveys = Surveys(self)
        self.rules = Rules(self)
        self.holds = Holds(self)
        self.protections = Protections(self)
        self.standing_consents = StandingConsents(self)
        self.runs = Runs(self)
        self.routines = Routines(self)
        self.rounds = Rounds(self)
        self.closing_days = ClosingDates(self)
        self.calendars = Calendars(self)
        self.waiting_listings = WaitingListings(self)
        self.attention = Attentions(self)
        self.trends = Trends(self)
        self.notices = Notices(self)
        self.hooks = Hooks(self)
        self.records = Records(self)
        self.people = People(self)
        self.backups = Backups(self)
        self.archives = Archives(self)
        self.imports = Imports(self)
        self.programs = Programs(self)
        self.questions = Questions(self)
        self.settings = Settings(self)
        self.checks = Checks(self)
        self.upkeep = Upkeep(self)
        self.visits = Visits(self)
        self.reports = Reports(self)
        self.shared_changes = SharedChanges(self)

    async def shop(self) -> Shop:
        """The shop itself: name, time zone, threshold."""
        return await self.get(Shop, "/shop")

    async def change_shop(self, shop: Shop, edit: ShopEdit) -> Shop:
        """As it was read; ChangedMeanwhileError."""
        return await self.put(Shop, "/shop", edit, shop.version)

    async def set_threshold(self, percent: int) -> Shop:
        """From how full on a volume is nearly full, where neither client nor machine says."""
        shop = await self.shop()
        return await self.change_shop(shop, edit_of(ShopEdit, shop, threshold_percent=percent))

    async def today(self) -> Today:
        """How the shop stands, and what needs a person."""
        return await self.get(Today, "/today")

    async def search(self, words: str, *, only: Sequence[HitKind] = (), limit: int = 8) -> Results:
        """What fits in everything that the shop knows: words, and fields as ``machine:tag``."""
        return await self.get(Results, "/search", words=words, only=list(only), limit=limit)

    async def search_as(
        self,
        words: str,
        form: Literal["csv", "jsonl"],
        *,
        only: Sequence[HitKind] = (),
        limit: int = 5000,
    ) -> str:
        """The same as CSV or JSON Lines."""
        params = {"words": words, "only": list(only), "limit": limit, "form": form}
        return (await self.send("GET", "/search", params=params)).text

    async def catalogue(self) -> Sequence[Category]:
        """Every kind of files that can be let go."""
        return await self.get(list[Category], "/catalogue")
