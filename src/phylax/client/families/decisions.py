"""Looking and deciding: surveys and their listings, consents, rules, the protect list."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from phylax.client.families.family import Family, Which
from phylax.core.catalogue.rule_document import Differences, NewDocument
from phylax.core.hold.holds import HeldItem, Hold
from phylax.core.retention import (
    ProtectEntry,
    Rule,
    Scope,
    ScopedProtection,
    ScopedRule,
    ShopRule,
)
from phylax.core.retention.consents import (
    Consent,
    NewConsent,
    NewStandingConsent,
    StandingConsent,
    Via,
)
from phylax.core.retention.protection import (
    ListedProtection,
    NewProtection,
    ProtectionOnMachine,
    ProtectTest,
)
from phylax.core.survey import FolderSum, Ledger, ListedItem, ListingOrder, Survey
from phylax.core.survey.what_if import WhatIf, WhatIfQuestion

_HOLDS: type[list[Hold]] = list[Hold]
"""`list` is a method's name below."""


class Holds(Family):
    """What is held on machines. Putting back and letting go are runs: see `Runs`.

    Example::

        for hold in shop.holds.list("ferry-desk"):
            shop.runs.put_back("ferry-desk", [HeldPick(hold_id=hold.id)])
    """

    def list(self, which: Which, *, also_ended: bool = False) -> Sequence[Hold]:
        """What a machine holds, newest first."""
        return self._http.get(_HOLDS, f"/machines/{which}/holds", also_ended=also_ended)

    def get(self, hold_id: int) -> Hold:
        """One, by number. NotFoundError."""
        return self._http.get(Hold, f"/holds/{hold_id}")

    def items(self, hold_id: int, *, words: str = "") -> Iterator[HeldItem]:
        """The things of a hold, by number; of which a part of the path is `words`."""
        return self._http.pages(HeldItem, f"/holds/{hold_id}/items", words=words or None)


class Surveys(Family):
    """What a survey found: sums by category, and listings of what needs approval.

    Example::

        for item in shop.surveys.listing(ledger.survey_id, "downloads"):
            print(item.number, item.size, item.path)
    """

    def get(self, survey_id: int) -> Survey:
        """One, by number. NotFoundError."""
        return self._http.get(Survey, f"/surveys/{survey_id}")

    def ledger(self, survey_id: int) -> Ledger:
        """what would be removed and what is kept of each category."""
        return self._http.get(Ledger, f"/surveys/{survey_id}/ledger")

    def listing(
        self,
        survey_id: int,
        category: str,
        *,
        largest_first: bool = False,
        place: str | None = None,
        folder: str = "",
    ) -> Iterator[ListedItem]:
        """Every item of a kept listing, or those below a place's folder."""
        return self._http.pages(
            ListedItem,
            f"/surveys/{survey_id}/listings/{category}",
            largest_first=largest_first,
            place=place,
            folder=folder,
        )

    def order(
        self, survey_id: int, category: str, *, place: str | None = None, folder: str = ""
    ) -> ListingOrder:
        """All items of a listing by number, largest first, with size and what the rule says."""
        path = f"/surveys/{survey_id}/listings/{category}/order"
        return self._http.get(ListingOrder, path, place=place, folder=folder)

    def by_number(
        self, survey_id: int, category: str, numbers: Sequence[int]
    ) -> Sequence[ListedItem]:
        """Up to 200 items of a listing, in the order asked for; those not in it are left out."""
        path = f"/surveys/{survey_id}/listings/{category}"
        return self._http.get(list[ListedItem], path, number=list(numbers))

    def folders(
        self, survey_id: int, category: str, *, place: str | None = None, folder: str = ""
    ) -> Sequence[FolderSum]:
        """What a listing holds by folder, one level at a time; without a place, by place."""
        path = f"/surveys/{survey_id}/listings/{category}/folders"
        return self._http.get(list[FolderSum], path, place=place, folder=folder)

    def consent(
        self,
        survey_id: int,
        category: str,
        *,
        numbers: Sequence[int] | None = None,
        via: Via = "api",
        comment: str = "",
    ) -> Consent:
        """A yes to chosen items of a listing, or to all that the rule proposed."""
        new = NewConsent(
            survey_id=survey_id,
            category=category,
            whole=numbers is None,
            numbers=tuple(numbers or ()),
            via=via,
            comment=comment,
        )
        return self._http.post(Consent, "/consents", new)


class StandingConsents(Family):
    """A client's yes to a category of a machine, until it is taken back.

    Example::

        shop.standing_consents.give("ferry-desk", "downloads", word="by contract")
    """

    def list(self, machine: Which) -> Sequence[StandingConsent]:
        """All that were ever given for a machine, newest first."""
        return self._http.get(list[StandingConsent], f"/machines/{machine}/standing-consents")

    def give(
        self, machine: Which, category: str, *, via: Via = "api", comment: str = ""
    ) -> StandingConsent:
        """A client's yes that holds for each later cleaning."""
        new = NewStandingConsent(category=category, via=via, comment=comment)
        return self._http.post(StandingConsent, f"/machines/{machine}/standing-consents", new)

    def take_back(self, number: int) -> None:
        """From now on each listing needs approval again."""
        self._http.delete(f"/standing-consents/{number}")


class Rules(Family):
    """Retention rules: what stays of each category, by scope.

    Example::

        shop.rules.put(Scope.SHOP, 0, "trash", Rule(keep_for=timedelta(days=14)))
    """

    def list(self) -> Sequence[ShopRule]:
        """The shop's rule for each category."""
        return self._http.get(list[ShopRule], "/rules")

    def get(self, scope: Scope, subject_id: int, category: str) -> ScopedRule:
        """What a scope says of a category. NotFoundError where it says nothing."""
        return self._http.get(ScopedRule, f"/rules/{scope}/{subject_id}/{category}")

    def put(
        self,
        scope: Scope,
        subject_id: int,
        category: str,
        rule: Rule,
        *,
        version: int | None = None,
    ) -> ScopedRule:
        """Say something at a scope; `version` is that of the rule read before, if there was one."""
        path = f"/rules/{scope}/{subject_id}/{category}"
        return self._http.put(ScopedRule, path, rule, version)

    def remove(self, rule: ScopedRule) -> None:
        """The scope says nothing any more; ChangedMeanwhileError where somebody was faster."""
        path = f"/rules/{rule.scope}/{rule.subject_id}/{rule.category}"
        self._http.delete(path, rule.version)

    def said(self, scope: Scope, subject_id: int) -> Sequence[ScopedRule]:
        """Everything that one scope says."""
        return self._http.get(list[ScopedRule], f"/rules/{scope}/{subject_id}")

    def what_if(
        self, category: str, rule: Rule, *, scope: Scope = Scope.SHOP, subject_id: int = 0
    ) -> WhatIf:
        """What another rule would remove, by the last surveys; nothing is touched."""
        question = WhatIfQuestion(category=category, scope=scope, subject_id=subject_id, rule=rule)
        return self._http.post(WhatIf, "/rules/what-if", question)

    def document(self) -> str:
        """All rules and protect lists as one TOML file."""
        return self._http.send("GET", "/rules/document").text

    def apply_document(self, text: str, *, dry_run: bool = True) -> Differences:
        """Make the rules those of a file, or only show what would change."""
        return self._http.post(
            Differences, "/rules/document", NewDocument(text=text, dry_run=dry_run)
        )


class Protections(Family):
    """What is protected: folders, patterns, sites.

    Example::

        entry = ProtectEntry(kind=ProtectKind.PATTERN, what="*.ledger")
        shop.protections.add(entry, note="the books")
    """

    def list(self, machine: Which | None = None) -> Sequence[ListedProtection]:
        """Everything that anyone protects, or what is protected on one machine; and what each
        entry covers there."""
        path = "/protections" if machine is None else f"/machines/{machine}/protections"
        return self._http.get(list[ListedProtection], path)

    def on_machines(self, number: int) -> Sequence[ProtectionOnMachine]:
        """What an entry covers on each machine that it is for."""
        return self._http.get(list[ProtectionOnMachine], f"/protections/{number}/machines")

    def add(
        self, entry: ProtectEntry, *, scope: Scope = Scope.SHOP, subject_id: int = 0, note: str = ""
    ) -> ScopedProtection:
        """Something protected, at a scope."""
        new = NewProtection(scope=scope, subject_id=subject_id, entry=entry, note=note)
        return self._http.post(ScopedProtection, "/protections", new)

    def remove(self, number: int) -> None:
        """It goes by its rule again."""
        self._http.delete(f"/protections/{number}")

    def test(
        self, machine: Which, *, path: str | None = None, site: str | None = None
    ) -> ProtectTest:
        """Which entry protects a path or a site on a machine, if any."""
        where = f"/machines/{machine}/protections/test"
        return self._http.get(ProtectTest, where, path=path, site=site)
