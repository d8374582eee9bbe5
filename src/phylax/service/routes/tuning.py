"""Tune-up: startup programs, the notebook of programs, questions and their answers."""

from __future__ import annotations

from sqlite3 import Connection
from typing import Literal

from fastapi import APIRouter, Query, Request, Response

from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.core.retention import Scope
from phylax.core.tuning.answers import Answer, AnswerEdit, AnsweredQuestion
from phylax.core.tuning.changes import Change
from phylax.core.tuning.known import KnownEdit, KnownProgram
from phylax.core.tuning.looks import MOST_PROGRAMS, JudgedSettings, UnknownProgram
from phylax.core.tuning.rules import (
    ProgramRuleEdit,
    ScopedProgramRule,
    ScopedTuningRule,
    TuningRuleEdit,
)
from phylax.core.tuning.setting import Question, Setting, questions, settings
from phylax.core.tuning.starts import Trial
from phylax.core.tuning.what_if import RuleWhatIf, WhatIfLine
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.problems import Problem, documented, not_found
from phylax.service.retention.what_if import check_may_rule, subject_in_words
from phylax.service.routes.lookup import find_machine
from phylax.service.tuning import settings_ingest
from phylax.service.tuning.judging import judged_look, unknown, with_machines
from phylax.service.tuning.what_if import (
    what_a_program_rule_changes,
    what_a_setting_rule_changes,
    what_an_entry_changes,
)
from phylax.store.tuning import (
    answers,
    notebook,
    program_rules,
    setting_rules,
    settings_changes,
)

router = APIRouter(tags=["tune-up"])


@router.get("/settings")
def list_settings(context: TheContext, actor: Signed) -> list[Setting]:
    """Everything that can be read on machines, as data."""
    return list(settings().values())


@router.get("/machines/{machine}/programs", responses=documented(404))
def get_programs(machine: str, context: TheContext, actor: Signed) -> JudgedSettings:
    """Startup programs on a machine, as it was read last, and what becomes of each program."""
    with context.db.read() as conn:
        return judged_look(conn, find_machine(conn, machine))


@router.get("/machines/{machine}/changes", responses=documented(404))
def list_changes(machine: str, context: TheContext, actor: Signed) -> list[Change]:
    """What was changed on a machine, newest first, and what became of it."""
    with context.db.read() as conn:
        return settings_changes.of_machine(conn, find_machine(conn, machine).id)


@router.get("/machines/{machine}/trials", responses=documented(404))
def list_trials(machine: str, context: TheContext, actor: Signed) -> list[Trial]:
    """Whether what was changed on a machine has helped: the trial of each run that changed
    something, newest first, with the starts it is judged by."""
    with context.db.read() as conn:
        return settings_ingest.trials(conn, find_machine(conn, machine).id)


@router.get("/unknown-programs")
def list_unknown(
    context: TheContext,
    actor: Signed,
    least_machines: int = Query(1, ge=1, description="Seen on so many machines at least"),
    limit: int = Query(MOST_PROGRAMS, ge=1, le=MOST_PROGRAMS),
) -> list[UnknownProgram]:
    """Programs that not in our notes yet, over the whole shop, of most machines first."""
    with context.db.read() as conn:
        listed = [program for program in unknown(conn) if program.machines >= least_machines]
    return listed[:limit]


@router.get("/known-programs")
def list_known(context: TheContext, actor: Signed) -> list[KnownProgram]:
    """The shop's notebook of programs, with the machines on which each was seen."""
    with context.db.read() as conn:
        return with_machines(conn, notebook.entries(conn))


@router.post("/known-programs/what-if", responses=documented(422))
def ask_what_an_entry_changes(
    edit: KnownEdit,
    context: TheContext,
    actor: Signed,
    number: int | None = Query(None, description="The entry that would be written anew"),
) -> list[WhatIfLine]:
    """What would become of each program meant, on every machine; nothing is changed."""
    with context.db.read() as conn:
        return what_an_entry_changes(conn, edit, number, who=actor.name, at=context.now())


@router.post(
    "/known-programs",
    status_code=201,
    response_model=KnownProgram,
    responses=documented(403, 422),
)
def write_about(new: KnownEdit, change: TheChange, technician: Technician) -> Response:
    """Write about a program: what it is, and what is to become of it."""

    def act(conn: Connection) -> KnownProgram:
        number = notebook.write_about(conn, new, who=change.who, at=change.now)
        made = _entry(conn, number)
        change.audit(conn, "write about a program", new.name, after=made)
        change.tell(conn, EventKind.SETTING)
        return made

    return change.once(new, act)


@router.put("/known-programs/{number}", responses=documented(403, 404, 412, 422, 428))
def write_anew(
    number: int,
    edit: KnownEdit,
    change: TheChange,
    technician: Technician,
    request: Request,
    response: Response,
) -> KnownProgram:
    """Write an entry anew; `If-Match` names the version that was read."""
    with change.context.db.write() as conn:
        before = _entry(conn, number)
        check_match(request, before, (before.written_by, int(before.written_at.timestamp())))
        notebook.write_anew(conn, number, edit, who=change.who, at=change.now)
        after = _entry(conn, number)
        change.audit(conn, "write about a program", edit.name, before, after)
        change.tell(conn, EventKind.SETTING)
    with_etag(after, response)
    return after


@router.delete("/known-programs/{number}", status_code=204, responses=documented(403, 404))
def strike_out(number: int, change: TheChange, technician: Technician) -> None:
    """The program is unknown again: nothing of it changes any more."""
    with change.context.db.write() as conn:
        before = _entry(conn, number)
        notebook.strike_out(conn, number)
        change.audit(conn, "strike out a program", before.edit.name, before)
        change.tell(conn, EventKind.SETTING)


def _entry(conn: Connection, number: int) -> KnownProgram:
    known = notebook.entry(conn, number)
    if known is None:
        raise not_found("entry of the notebook", number)
    return known


# --- questions ----------------------------------------------------------------------------------


@router.get("/questions")
def list_questions(context: TheContext, actor: Signed) -> list[Question]:
    """What decides about groups of settings, in a client's words."""
    return list(questions().values())


@router.get("/answers/{scope}/{subject_id}", responses=documented(404))
def list_answers(
    scope: Literal["client", "machine"], subject_id: int, context: TheContext, actor: Signed
) -> list[AnsweredQuestion]:
    """Every question with what counts for a client or a machine; a machine's own answer counts
    before its client's."""
    with context.db.read() as conn:
        subject_in_words(conn, Scope(scope), subject_id)
        if scope == "machine":
            given = answers.on_machine(conn, subject_id)
        else:
            given = {a.question: a for a in answers.of_scope(conn, "client", subject_id)}
    return [AnsweredQuestion(question=q, answer=given.get(q.key)) for q in questions().values()]


@router.put("/answers/{scope}/{subject_id}/{question}", responses=documented(403, 404, 422))
def put_answer(
    scope: Literal["client", "machine"],
    subject_id: int,
    question: str,
    edit: AnswerEdit,
    change: TheChange,
    technician: Technician,
) -> list[AnsweredQuestion]:
    """Note what was answered, or that there is no answer any more."""
    if question not in questions():
        raise not_found("question", question, questions())
    with change.context.db.write() as conn:
        subject = subject_in_words(conn, Scope(scope), subject_id)
        if edit.answer is None:
            answers.forget(conn, scope, subject_id, question)
        else:
            answer = Answer(
                question=question,
                answer=edit.answer,
                scope=scope,
                comment=edit.comment,
                who=change.who,
                at=from_seconds(change.now),
            )
            answers.note(conn, answer, subject_id)
        change.audit(conn, "note an answer", f"{question} for {subject}", after=edit)
        change.tell(conn, EventKind.SETTING, subject_id if scope == "machine" else None)
    return list_answers(scope, subject_id, change.context, change.actor)


# --- rules of programs --------------------------------------------------------------------------


@router.get("/program-rules/{scope}/{subject_id}", responses=documented(404))
def list_program_rules(
    scope: Scope, subject_id: int, context: TheContext, actor: Signed
) -> list[ScopedProgramRule]:
    """What one scope says of programs; subject 0 is the shop."""
    with context.db.read() as conn:
        subject_in_words(conn, scope, subject_id)
        return program_rules.of_scope(conn, scope, subject_id)


@router.post("/program-rules/{scope}/{subject_id}", responses=documented(403, 404, 412, 422, 428))
def put_program_rule(
    scope: Scope,
    subject_id: int,
    edit: ProgramRuleEdit,
    change: TheChange,
    technician: Technician,
    request: Request,
) -> list[ScopedProgramRule]:
    """Say something of a program at a scope; a rule that says nothing takes it back. What is there
    already is changed with its If-Match."""
    with change.context.db.write() as conn:
        before = program_rules.rule(conn, scope, subject_id, edit.program)
        subject = _may_write_over(conn, change, request, scope, subject_id, before)
        program_rules.put(
            conn, scope, subject_id, edit.program, edit.rule, who=change.who, at=change.now
        )
        change.audit(conn, "change rule", f"{edit.program} for {subject}", before, edit)
        change.tell(conn, EventKind.SETTING, subject_id if scope is Scope.MACHINE else None)
        return program_rules.of_scope(conn, scope, subject_id)


@router.post("/program-rules/{scope}/{subject_id}/what-if", responses=documented(404, 422))
def ask_what_a_program_rule_changes(
    scope: Scope, subject_id: int, edit: ProgramRuleEdit, context: TheContext, actor: Signed
) -> RuleWhatIf:
    """What becomes of a program now and by such a rule, on the machines that it would hold for;
    nothing is changed."""
    with context.db.read() as conn:
        _scope_to_rule(conn, scope, subject_id)
        return what_a_program_rule_changes(conn, scope, subject_id, edit)


# --- rules of settings --------------------------------------------------------------------------


@router.get("/setting-rules/{scope}/{subject_id}", responses=documented(404))
def list_setting_rules(
    scope: Scope, subject_id: int, context: TheContext, actor: Signed
) -> list[ScopedTuningRule]:
    """What one scope says of settings of one value; subject 0 is the shop."""
    with context.db.read() as conn:
        subject_in_words(conn, scope, subject_id)
        return setting_rules.of_scope(conn, scope, subject_id)


@router.post("/setting-rules/{scope}/{subject_id}", responses=documented(403, 404, 412, 422, 428))
def put_setting_rule(
    scope: Scope,
    subject_id: int,
    edit: TuningRuleEdit,
    change: TheChange,
    technician: Technician,
    request: Request,
) -> list[ScopedTuningRule]:
    """Say something of a setting at a scope; a rule that says nothing takes it back. What is there
    already is changed with its If-Match."""
    with change.context.db.write() as conn:
        before = setting_rules.rule(conn, scope, subject_id, edit.setting)
        subject = _may_write_over(conn, change, request, scope, subject_id, before)
        setting_rules.put(
            conn, scope, subject_id, edit.setting, edit.rule, who=change.who, at=change.now
        )
        change.audit(conn, "change rule", f"{edit.setting} for {subject}", before, edit)
        change.tell(conn, EventKind.SETTING, subject_id if scope is Scope.MACHINE else None)
        return setting_rules.of_scope(conn, scope, subject_id)


@router.post("/setting-rules/{scope}/{subject_id}/what-if", responses=documented(404, 422))
def ask_what_a_setting_rule_changes(
    scope: Scope, subject_id: int, edit: TuningRuleEdit, context: TheContext, actor: Signed
) -> RuleWhatIf:
    """What becomes of a setting now and by such a rule, on the machines that it would hold for;
    nothing is changed."""
    with context.db.read() as conn:
        _scope_to_rule(conn, scope, subject_id)
        return what_a_setting_rule_changes(conn, scope, subject_id, edit)


def _scope_to_rule(conn: Connection, scope: Scope, subject_id: int) -> None:
    if scope is Scope.CATALOGUE:
        raise Problem(422, "not-a-scope", "Say it for shop, client or machine.")
    subject_in_words(conn, scope, subject_id)


def _may_write_over(
    conn: Connection,
    change: TheChange,
    request: Request,
    scope: Scope,
    subject_id: int,
    before: ScopedProgramRule | ScopedTuningRule | None,
) -> str:
    """The subject of a rule in words; a problem where this person may not rule there, or where
    another version is in force than the one that was read."""
    if scope is Scope.CATALOGUE:
        raise Problem(422, "not-a-scope", "Say it for shop, client or machine.")
    subject = check_may_rule(conn, change.actor, scope, subject_id)
    if before is not None:
        check_match(request, before, (before.changed_by, int(before.changed_at.timestamp())))
    return subject
