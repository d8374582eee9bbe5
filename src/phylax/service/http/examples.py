"""An example of each request body, for the OpenAPI document. Each is checked against its model."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel

from phylax.core.attention import AttentionEdit
from phylax.core.attention.notices import HookEdit, MailServerEdit, WishesEdit
from phylax.core.backups.backups import BackupPlanEdit
from phylax.core.catalogue.rule_document import NewDocument
from phylax.core.checks.kept import SettleFindings
from phylax.core.clients.decommissioning import Retire
from phylax.core.clients.importing.request import ImportCommit, ImportRequest
from phylax.core.clients.shop import ClientEdit, ClosingDaysEdit, MachineEdit, ShopEdit
from phylax.core.desk.advice import AdviceEdit, AdviceStep
from phylax.core.desk.orders import NewPart, NewSealedNote, PartStep, ReadyToFetch
from phylax.core.desk.visits import HandOver, NewVisit, NextTurn, VisitEdit
from phylax.core.erasing.data_retention import DataRetentionEdit
from phylax.core.erasing.forgetting.request import Forget
from phylax.core.people.accounts import (
    Activity,
    Code,
    CodesRule,
    NewPasskey,
    NewPassword,
    NewPerson,
    NewRole,
    NewToken,
    PasskeySignIn,
    SignIn,
    Welcome,
)
from phylax.core.people.views import NewView
from phylax.core.protocol import (
    ActionMessage,
    ChangesMessage,
    CheckedMessage,
    Enrolment,
    HeldMessage,
    InventoryMessage,
    LeasedProgress,
    ListingMessage,
    ReadingsMessage,
    RestoredMessage,
    ResultMessage,
    SettingsMessage,
    SnapshotMessage,
    StartsMessage,
    SurveyMessage,
    SurveyPartMessage,
    UnheldMessage,
)
from phylax.core.record.proofs import NewProofCheck
from phylax.core.record.records import NewNote
from phylax.core.record.seals import NewSealCheck
from phylax.core.reporting.request import LetterheadEdit, NewMark, ReportMail, ReportRequest
from phylax.core.retention import Rule
from phylax.core.retention.consents import NewApproval, NewConsent, NewStandingConsent
from phylax.core.retention.protection import NewProtection
from phylax.core.runs.runs import NewRoutineRuns, NewRun, RunsAgain
from phylax.core.scheduling.calendars import FeedEdit
from phylax.core.scheduling.rounds import Postponed, RoundEdit
from phylax.core.scheduling.routines import RoutineEdit, StepTick
from phylax.core.survey.what_if import WhatIfQuestion
from phylax.core.tuning.answers import AnswerEdit
from phylax.core.tuning.known import KnownEdit
from phylax.core.tuning.rules import ProgramRuleEdit, TuningRuleEdit
from phylax.core.tuning.shared import NewSharedChange

_READING = {
    "mount": "C:", "capacity": 254_477_860_864, "free": 29_313_986_560,
    "at": "2026-03-02T18:34:00Z", "file_system": "NTFS", "disk": "ssd",
}  # fmt: skip
_SPAN = {"started_at": "2026-03-02T18:30:00Z", "ended_at": "2026-03-02T18:34:00Z"}

_LIST = "Q2xpZW50O1RhZwpLZWxwaWUgQm9hdHlhcmQ7Ym9hdHlhcmQtY2FkCg=="
EXAMPLES: dict[type[BaseModel], dict[str, Any]] = {
    ShopEdit: {"name": "Quayside Computer Repair", "zone": "Europe/Dublin",
               "threshold_percent": 90},
    ClientEdit: {"name": "Skerry Ferry Office", "contact": "Maren Oyle",
                 "mail": "office@skerryferry.example"},
    KnownEdit: {"recognition": {"package": "scan-button"}, "name": "Scan button helper",
                "description": "Waits for the button of a scanner.",
                "handling": "hangs on a question",
                "intent": "on demand", "depends_on": {"question": "scans", "on": "no"}},
    AnswerEdit: {"answer": "no", "comment": "asked at the desk"},
    NewSharedChange: {"program": "package:scan-button", "intent": "on demand",
                      "machine_ids": [3, 7, 8], "half_first": True, "comment": "agreed by mail"},
    TuningRuleEdit: {"setting": "updates", "rule": {"value": "wednesday-noon"}},
    ProgramRuleEdit: {"program": "package:scan-button", "rule": {"leave": True}},
    SettingsMessage: {"id": "5f0c8a6e-settings", "run_id": 12,
                      "look": {"taken_at": "2026-03-02T18:34:00Z", "programs": []}},
    ChangesMessage: {"id": "5f0c8a6e-changes", "run_id": 13, "changes": [
        {"id": "13-5f0c8a6e", "program": "package:scan-button", "name": "Scan button helper",
         "before": "at start", "after": "on demand", "at": "2026-03-02T18:34:00Z"}]},
    NewPasskey: {"name": "Phone", "credential": "{\"id\": \"…\", \"type\": \"public-key\"}"},
    PasskeySignIn: {"credential": "{\"id\": \"…\", \"type\": \"public-key\"}"},
    ReportRequest: {"visit": 12, "language": "en", "cover": "It was the fan.",
                "leave_out": ["free space"]},
    NewPart: {"item": "SSD, 1 TB", "supplier": "Kittiwake Parts", "expected": "2026-03-09"},
    PartStep: {"state": "arrived"},
    ReadyToFetch: {"mail": "aoife@ferry.example", "comment": "It costs 60."},
    NewSealedNote: {"title": "Bram's sign-in", "text": "under the keyboard"},
    ReportMail: {"to": "office@ferry.example"},
    LetterheadEdit: {"head": "Quayside Repairs\n1 Harbour Road", "language": "en"},
    NewMark: {"content": "PHN2ZyB4bWxucz0iaHR0cDovL3d3dy53My5vcmcvMjAwMC9zdmciLz4="},
    NewVisit: {"machine_id": 16, "reported_problem": "It stops in the middle of the mail.",
               "accessories": "charger, bag", "due_on": "2026-12-04", "approval_limit": 60},
    VisitEdit: {"reported_problem": "It stops in the middle of the mail.",
                "accessories": "charger, bag"},
    NextTurn: {"turn": "client", "todo": "approve the new disk", "follow_up_on": "2026-12-01"},
    HandOver: {"outcome": "mended", "comment": "A new disk; all files are on it."},
    Retire: {"why": "Sold; the office has a new one."},
    SettleFindings: {"comment": "Checked while not in use; the cable was loose."},
    CheckedMessage: {"id": "7b2e0c81-checked", "run_id": 14, "checked": [
        {"check": "file-system", "target": "C:", "result": "clean",
         "started_at": "2026-03-02T18:34:00Z", "ended_at": "2026-03-02T18:34:02Z"}]},
    InventoryMessage: {"id": "4c1b9e77-inventory", "run_id": 14, "inventory": {
        "kind": "updates", "taken_at": "2026-03-02T18:34:00Z", "updates": [
            {"name": "harbour-chat", "now": "4.1", "version": "4.2", "origin": "Harbour Software",
             "security": True, "size": 52_428_800}]}},
    ActionMessage: {"id": "acted-15-5f0c9b1e-0-1", "run_id": 15, "action": "install-updates",
                   "parts": [{"target": "harbour-chat", "end": "done", "before": "4.1",
                              "after": "4.2"}], **_SPAN},
    SnapshotMessage: {"id": "before-14", "run_id": 14, "when": "before", "snapshot": {
        "taken_at": "2026-03-02T18:34:00Z", "boot": "0d9a41e6", "usable": 41.5}},
    AdviceEdit: {"kind": "a larger disk", "text": "A larger disk for C:.",
                 "figures": [{"name": "C: used", "value": "94 %"}]},
    AdviceStep: {"status": "accepted", "comment": "ordered with the next delivery"},
    StartsMessage: {"id": "6a1d9b7f-starts", "starts": [
        {"boot": "0d9a41e6", "at": "2026-03-02T08:01:00Z", "unattributed": 9.4,
         "programs": {"package:scan-button": 1.9}}]},
    AttentionEdit: {"handling": "settled", "comment": "told the client; a larger disk is ordered"},
    WishesEdit: {"mail": "wren@quayside.example", "at_once": "urgent", "daily": True,
                 "weekly": True, "quiet_from": "19:00", "quiet_until": "07:30"},
    MailServerEdit: {"host": "mail.quayside.example", "port": 587, "security": "starttls",
                     "login": "phylax", "sender": "phylax@quayside.example"},
    HookEdit: {"name": "The desk's board", "url": "https://board.quayside.example/in",
               "at_once": "urgent"},
    MachineEdit: {"tag": "ferry-desk", "client_id": 1, "system": "windows", "make": "Corrin",
                  "model": "Slate 14", "memory": 17_179_869_184},
    Rule: {"off": False, "keep_for": "P14D"},
    NewRun: {"machine_id": 1, "work": "clean", "categories": ["user-temp", "trash"]},
    NewConsent: {"survey_id": 17, "category": "downloads", "numbers": [3, 7],
                 "comment": "asked by phone"},
    RoundEdit: {"name": "Light weekly, ferry", "routine_id": 1, "recurrence": "every Tuesday",
                "at": "18:30", "closes": "06:00", "starts_on": "2026-03-01", "catch_up": "PT36H",
                "client_ids": [1], "except_machine_ids": [2]},
    RoutineEdit: {"name": "Quarterly", "steps": [
        {"kind": "survey"}, {"kind": "clean", "categories": ["user-temp", "trash"]},
        {"kind": "by hand", "title": "Ring the client"}]},
    NewRoutineRuns: {"machine_ids": [1, 2]},
    RunsAgain: {"run_ids": [17]},
    StepTick: {"state": "done", "comment": "two fans were blocked"},
    Postponed: {"machine_id": 1, "until": "2026-03-04T18:30:00Z", "comment": "exams"},
    ClosingDaysEdit: {"first": "2026-12-24", "last": "2027-01-02", "name": "Midwinter"},
    FeedEdit: {"name": "Rounds of the shop", "about": "shop"},
    NewApproval: {"listings": [{"survey_id": 17, "category": "downloads"}], "comment": "by phone"},
    WhatIfQuestion: {"category": "trash", "scope": "shop", "rule": {"keep_for": "P14D"}},
    NewDocument: {"text": '[shop.trash]\nkeep_for = "14 days"\n', "dry_run": True},
    NewProtection: {"scope": "client", "subject_id": 3,
                    "entry": {"kind": "pattern", "pattern": "*.dcm"}, "note": "X-ray pictures"},
    NewStandingConsent: {"category": "downloads", "comment": "agreed in the contract"},
    ImportRequest: {"content": _LIST, "source": "spreadsheet", "system": "windows"},
    ImportCommit: {"content": _LIST, "source": "spreadsheet", "preview": "5a" * 32},
    DataRetentionEdit: {"file_names_months": 24, "notices_months": 12, "staff_months": 36},
    Forget: {"why": "A claim is open.", "postponed_until": "2030-01-01"},
    NewNote: {"machine_id": 1, "text": "Client told by phone."},
    NewPerson: {"login": "wren", "name": "Wren Halloran", "role": "technician",
                "password": "four plain words here"},
    Activity: {"active": False},
    NewPassword: {"present": "four plain words here", "new": "five other plain words here"},
    SignIn: {"login": "wren", "password": "four plain words here"},
    NewToken: {"name": "till script", "scope": "read", "days": 90},
    BackupPlanEdit: {"place": "/mnt/safe/phylax", "hour": 2, "daily": 14, "weekly": 13,
                     "monthly": 12},
    NewProofCheck: {"proof": "c2sp.org/tlog-proof@v1\nextra e30=\nindex 541\n..."},
    NewSealCheck: {"note": "phylax/…"},
    NewRole: {"role": "technician"},
    CodesRule: {"codes_for": "owners"},
    Code: {"code": "492039"},
    Welcome: {"secret": "welcome_8b1xX0wq", "password": "four plain words here"},
    NewView: {"page": "machines", "name": "Full Linux", "query": "system=linux&tight=yes"},
    Enrolment: {"code": "k7wq-m2xd-9hfe-tz4b",
                "facts": {"system": "windows", "host": "FERRY-DESK", "agent_version": "0.1.0",
                          "kind": "standin"}},
    LeasedProgress: {"lease": "5f0c9b1e",
                     "progress": {"step": "clean", "category": "trash", "items": 12,
                                  "size": 104_857_600}},
    ReadingsMessage: {"kind": "readings", "id": "a3f1c2d4e5", "readings": [_READING]},
    ListingMessage: {"kind": "listing", "id": "b3f1c2d4e5", "run_id": 9, "survey_kind": "look",
                     "category": "downloads", "first_number": 1, "items": []},
    SurveyMessage: {"kind": "survey", "id": "c3f1c2d4e5", "run_id": 9, "survey_kind": "look",
    "lines": [],
                    **_SPAN},
    SurveyPartMessage: {"kind": "survey part", "id": "d3f1c2d4e5", "run_id": 9,
    "survey_kind": "look",
                        "started_at": "2026-03-02T18:30:00Z", "lines": []},
    HeldMessage: {"kind": "held", "id": "held-9.trash.0a1b2c3d-1-1", "run_id": 9,
                  "batch": "9.trash.0a1b2c3d", "category": "trash", "mount": "C:",
                  "held_at": "2026-03-02T18:34:00Z", "expires_at": "2026-03-09T18:34:00Z",
                  "items": [{"number": 1, "place": "C:\\Users\\Maren\\Downloads",
                             "path": "old/film.iso", "size": 104_857_600}]},
    UnheldMessage: {"kind": "unheld", "id": "e3f1c2d4e5", "batch": "9.trash.0a1b2c3d",
                    "status": "put back", "at": "2026-03-03T09:12:00Z", "numbers": [[1, 1]]},
    RestoredMessage: {"kind": "set back", "id": "0b6f2d9e41", "restore_epoch": "4f" * 16,
                     "known_event": 51_200, "newest_event": 48_911},
    ResultMessage: {"kind": "result", "id": "result-9-5f0c9b1e", "run_id": 9, **_SPAN,
                    "outcomes": [{"category": "trash", "removed": {"count": 9, "size": 104_857_600},
                                  "left": [{"reason": "in use", "count": 1, "size": 4096}]}],
                    "before": [_READING], "after": [_READING | {"free": 29_418_844_160}]},
}  # fmt: skip
