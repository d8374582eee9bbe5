"""Tune-up: startup programs, the notebook of programs, questions and answers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from pydantic import TypeAdapter

from phylax.client.families.family import Family, Which
from phylax.core.ground.values import Scalar
from phylax.core.retention import Scope
from phylax.core.tuning.answers import AnswerEdit, AnsweredQuestion
from phylax.core.tuning.changes import Change
from phylax.core.tuning.known import KnownEdit, KnownProgram
from phylax.core.tuning.looks import JudgedSettings, UnknownProgram
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.rules import (
    ProgramRule,
    ProgramRuleEdit,
    ScopedProgramRule,
    ScopedTuningRule,
    TuningRule,
    TuningRuleEdit,
)
from phylax.core.tuning.setting import Setting
from phylax.core.tuning.shared import NewSharedChange, SharedChange
from phylax.core.tuning.starts import Trial
from phylax.core.tuning.what_if import RuleWhatIf, WhatIfLine

_SHARED: type[list[SharedChange]] = list[SharedChange]
_LINES: type[list[WhatIfLine]] = list[WhatIfLine]
AnswerScope = Literal["client", "machine"]


def _over(
    before: Sequence[ScopedProgramRule] | Sequence[ScopedTuningRule],
) -> dict[str, str] | None:
    """Over which version a rule is written."""
    return {"If-Match": f'"{before[0].version}"'} if before else None


class Programs(Family):
    """Startup programs, and what the shop knows of it.

    Example::

        looked = shop.programs.on("ferry-desk")
    """

    def on(self, machine: Which) -> JudgedSettings:
        """The newest survey at a machine, judged by what counts now."""
        return self._http.get(JudgedSettings, f"/machines/{machine}/programs")

    def changes(self, machine: Which) -> Sequence[Change]:
        """What was changed on a machine, newest first."""
        return self._http.get(list[Change], f"/machines/{machine}/changes")

    def trials(self, machine: Which) -> Sequence[Trial]:
        """Whether what was changed on a machine has helped, newest first."""
        return self._http.get(list[Trial], f"/machines/{machine}/trials")

    def unknown(self) -> Sequence[UnknownProgram]:
        """What not in our notes yet, of most machines first."""
        return self._http.get(list[UnknownProgram], "/unknown-programs")

    def notebook(self) -> Sequence[KnownProgram]:
        """What the shop wrote about programs."""
        return self._http.get(list[KnownProgram], "/known-programs")

    def write(self, edit: KnownEdit) -> KnownProgram:
        """A new entry of the notebook."""
        return self._http.post(KnownProgram, "/known-programs", edit)

    def write_anew(self, entry: KnownProgram, edit: KnownEdit) -> KnownProgram:
        """Change an entry as it was read; ChangedMeanwhileError."""
        return self._http.put(KnownProgram, f"/known-programs/{entry.id}", edit, entry.version)

    def strike_out(self, number: int) -> None:
        """The program is unknown again."""
        self._http.delete(f"/known-programs/{number}")

    def what_if(self, edit: KnownEdit) -> Sequence[WhatIfLine]:
        """What a new entry would change on every machine; nothing is changed."""
        return self._http.post(list[WhatIfLine], "/known-programs/what-if", edit)

    def rules(self, scope: Scope, subject_id: int) -> Sequence[ScopedProgramRule]:
        """What one scope says of programs."""
        return self._http.get(list[ScopedProgramRule], f"/program-rules/{scope}/{subject_id}")

    def put_rule(
        self, scope: Scope, subject_id: int, program: str, rule: ProgramRule
    ) -> Sequence[ScopedProgramRule]:
        """Say something of a program, over what the scope says of it now; an empty rule takes it
        back."""
        before = [r for r in self.rules(scope, subject_id) if r.program == program]
        edit = ProgramRuleEdit(program=program, rule=rule)
        path = f"/program-rules/{scope}/{subject_id}"
        response = self._http.send("POST", path, body=edit, headers=_over(before))
        return TypeAdapter(list[ScopedProgramRule]).validate_json(response.content)

    def what_if_rule(
        self, scope: Scope, subject_id: int, program: str, rule: ProgramRule
    ) -> RuleWhatIf:
        """What a rule would change on the machines that it holds for; nothing is changed."""
        edit = ProgramRuleEdit(program=program, rule=rule)
        path = f"/program-rules/{scope}/{subject_id}/what-if"
        return self._http.post(RuleWhatIf, path, edit)


class SharedChanges(Family):
    """One change on many machines: one yes, half first, put back for all.

    Example::

        for shared in shop.shared_changes.list():
            print(shared.name)
    """

    def proposed(self) -> Sequence[WhatIfLine]:
        """What the rules would change over the whole shop, by program and setting."""
        return self._http.get(_LINES, "/shared-changes/proposed")

    def list(self, *, limit: int = 20) -> Sequence[SharedChange]:
        """The newest first."""
        return self._http.get(_SHARED, "/shared-changes", limit=limit)

    def get(self, number: int) -> SharedChange:
        """One, by number. NotFoundError."""
        return self._http.get(SharedChange, f"/shared-changes/{number}")

    def make(
        self,
        program: str,
        intent: Intent,
        machine_ids: Sequence[int],
        *,
        half_first: bool = False,
        comment: str = "",
    ) -> SharedChange:
        """Change one program on machines; it is a yes to what needs one."""
        new = NewSharedChange(
            program=program,
            intent=intent,
            machine_ids=tuple(machine_ids),
            half_first=half_first,
            comment=comment,
        )
        return self._http.post(SharedChange, "/shared-changes", new)

    def set(
        self, setting: str, value: Scalar, machine_ids: Sequence[int], *, comment: str = ""
    ) -> SharedChange:
        """Set one setting on machines; it is a yes to what needs one."""
        new = NewSharedChange(
            setting=setting, value=value, machine_ids=tuple(machine_ids), comment=comment
        )
        return self._http.post(SharedChange, "/shared-changes", new)

    def go_on(self, number: int) -> SharedChange:
        """The other half has its turn."""
        return self._http.post(SharedChange, f"/shared-changes/{number}/rest")

    def put_back(self, number: int) -> SharedChange:
        """Put it back wherever it is in force."""
        return self._http.post(SharedChange, f"/shared-changes/{number}/put-back")


class Settings(Family):
    """Settings of one value: what each scope wants of them. What a machine has is in
    `programs.on(machine).values`; `runs.change` changes it.

    Example::

        for setting in shop.settings.all():
            print(setting.key, setting.name)
    """

    def all(self) -> Sequence[Setting]:
        """Everything that can be read on machines, as data."""
        return self._http.get(list[Setting], "/settings")

    def rules(self, scope: Scope, subject_id: int) -> Sequence[ScopedTuningRule]:
        """What one scope says of settings."""
        return self._http.get(list[ScopedTuningRule], f"/setting-rules/{scope}/{subject_id}")

    def put_rule(
        self, scope: Scope, subject_id: int, setting: str, rule: TuningRule
    ) -> Sequence[ScopedTuningRule]:
        """Say something of a setting, over what the scope says of it now; an empty rule takes it
        back."""
        before = [r for r in self.rules(scope, subject_id) if r.setting == setting]
        edit = TuningRuleEdit(setting=setting, rule=rule)
        path = f"/setting-rules/{scope}/{subject_id}"
        response = self._http.send("POST", path, body=edit, headers=_over(before))
        return TypeAdapter(list[ScopedTuningRule]).validate_json(response.content)

    def what_if_rule(
        self, scope: Scope, subject_id: int, setting: str, rule: TuningRule
    ) -> RuleWhatIf:
        """What a rule would change on the machines that it holds for; nothing is changed."""
        edit = TuningRuleEdit(setting=setting, rule=rule)
        path = f"/setting-rules/{scope}/{subject_id}/what-if"
        return self._http.post(RuleWhatIf, path, edit)


class Questions(Family):
    """What decides about groups of settings, and what was answered.

    Example::

        asked = shop.questions.of("machine", machine.id)
    """

    def of(self, scope: AnswerScope, subject_id: int) -> Sequence[AnsweredQuestion]:
        """Every question, with what was answered for a client or a machine."""
        return self._http.get(list[AnsweredQuestion], f"/answers/{scope}/{subject_id}")

    def answer(
        self,
        scope: AnswerScope,
        subject_id: int,
        question: str,
        answer: Literal["yes", "no"] | None,
        *,
        comment: str = "",
    ) -> Sequence[AnsweredQuestion]:
        """Note an answer; None: there is none any more."""
        edit = AnswerEdit(answer=answer, comment=comment)
        path = f"/answers/{scope}/{subject_id}/{question}"
        return self._http.put(list[AnsweredQuestion], path, edit, None)
