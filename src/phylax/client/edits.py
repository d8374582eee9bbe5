"""What callers of the client make themselves: edits, choices, and words that fields take."""

from phylax.core.actions.kinds import (
    ArrangeDisks,
    ClearNameCache,
    InstallUpdates,
    RemoveProgram,
    RepairFileSystem,
    Restart,
    TryRemoval,
)
from phylax.core.attention.notices import AtOnce, HookEdit, MailServerEdit, WishesEdit
from phylax.core.clients.importing.request import ImportRequest
from phylax.core.clients.machine_list import MachineSort
from phylax.core.clients.shop import ClientEdit, ClosingDaysEdit, MachineEdit, ShopEdit
from phylax.core.desk.advice import AdviceEdit, AdviceKind, AdviceStatus
from phylax.core.desk.orders import NewPart, PartState, ReadyToFetch
from phylax.core.desk.visits import HandOver, NewVisit, NextTurn, Turn
from phylax.core.erasing.forgetting.request import Forget
from phylax.core.ground.machines import System
from phylax.core.ground.values import edit_of
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.hold.holds import HeldPick, IfTaken
from phylax.core.people.accounts import CodesFor, NewPerson, Role, TokenScope
from phylax.core.record.records import RecordKind
from phylax.core.record.searching import HitKind
from phylax.core.reporting.request import Part, ReportRequest
from phylax.core.retention.protection import ProtectEntry, ProtectKind
from phylax.core.retention.rules import PressureStep, Rule, Scope
from phylax.core.runs.runs import WantedProgram, WantedSetting
from phylax.core.scheduling.calendars import FeedEdit
from phylax.core.scheduling.rounds import MachineFilter, Pressure, RoundEdit
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep, StepKind, StepState
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.rules import ProgramRule, TuningRule
from phylax.core.tuning.setting import DependsOn

__all__ = [
    "AdviceEdit",
    "AdviceKind",
    "AdviceStatus",
    "ArrangeDisks",
    "AtOnce",
    "ClearNameCache",
    "ClientEdit",
    "ClosingDaysEdit",
    "CodesFor",
    "DependsOn",
    "FeedEdit",
    "Forget",
    "HandOver",
    "HeldPick",
    "HitKind",
    "HookEdit",
    "IfTaken",
    "ImportRequest",
    "InstallUpdates",
    "Intent",
    "KnownEdit",
    "MachineEdit",
    "MachineFilter",
    "MachineSort",
    "MailServerEdit",
    "NewPart",
    "NewPerson",
    "NewVisit",
    "NextTurn",
    "Part",
    "PartState",
    "Pressure",
    "PressureStep",
    "ProgramDecision",
    "ProgramRule",
    "ProtectEntry",
    "ProtectKind",
    "ReadyToFetch",
    "Recognition",
    "RecordKind",
    "RemoveProgram",
    "RepairFileSystem",
    "ReportRequest",
    "Restart",
    "Role",
    "RoundEdit",
    "RoutineEdit",
    "RoutineStep",
    "Rule",
    "Scope",
    "ShopEdit",
    "StepKind",
    "StepState",
    "System",
    "TokenScope",
    "TryRemoval",
    "TuningRule",
    "Turn",
    "VolumeChoice",
    "WantedProgram",
    "WantedSetting",
    "WishesEdit",
    "edit_of",
]
