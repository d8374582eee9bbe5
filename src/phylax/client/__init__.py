"""The client library: everything the service does, typed.

::

    from phylax.client import Phylax

    with Phylax("http://127.0.0.1:8610", token) as shop:
        run = shop.runs.survey("ferry-desk")
        for state in shop.runs.follow(run.id, timeout=600):
            print(state.state, state.progress)
        print(shop.machines.ledger("ferry-desk").goes)

`AsyncPhylax` has the same families and methods, to be awaited. Types that callers make, as
`RoundEdit`, are here too, and in `phylax.client.edits`.

Families are loaded when they are first asked for: an agent needs none of them.
"""

import sys
from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from phylax.client.aio.shop import AsyncPhylax
    from phylax.client.aio.shop import sign_in as async_sign_in
    from phylax.client.edits import (
        AdviceEdit,
        AdviceKind,
        AdviceStatus,
        ArrangeDisks,
        AtOnce,
        ClearNameCache,
        ClientEdit,
        ClosingDaysEdit,
        CodesFor,
        DependsOn,
        FeedEdit,
        Forget,
        HandOver,
        HeldPick,
        HitKind,
        HookEdit,
        IfTaken,
        ImportRequest,
        InstallUpdates,
        Intent,
        KnownEdit,
        MachineEdit,
        MachineFilter,
        MachineSort,
        MailServerEdit,
        NewPart,
        NewPerson,
        NewVisit,
        NextTurn,
        Part,
        PartState,
        Pressure,
        PressureStep,
        ProgramDecision,
        ProgramRule,
        ProtectEntry,
        ProtectKind,
        ReadyToFetch,
        Recognition,
        RecordKind,
        RemoveProgram,
        RepairFileSystem,
        ReportRequest,
        Restart,
        Role,
        RoundEdit,
        RoutineEdit,
        RoutineStep,
        Rule,
        Scope,
        ShopEdit,
        StepKind,
        StepState,
        System,
        TokenScope,
        TryRemoval,
        TuningRule,
        Turn,
        VolumeChoice,
        WantedProgram,
        WantedSetting,
        WishesEdit,
        edit_of,
    )
    from phylax.client.families.shop import Phylax, sign_in
    from phylax.client.transport.errors import (
        ChangedMeanwhileError,
        ClearHttpError,
        ForgottenError,
        NotAllowedError,
        NotAnOrderError,
        NotFoundError,
        NotSignedInError,
        PhylaxError,
        RefusedError,
        ServiceError,
        StillRunningError,
        UnreachableError,
    )
    from phylax.client.transport.http import trusted
    from phylax.client.transport.link import AgentLink, enrol

__all__ = [
    "AdviceEdit",
    "AdviceKind",
    "AdviceStatus",
    "AgentLink",
    "ArrangeDisks",
    "AsyncPhylax",
    "AtOnce",
    "ChangedMeanwhileError",
    "ClearHttpError",
    "ClearNameCache",
    "ClientEdit",
    "ClosingDaysEdit",
    "CodesFor",
    "DependsOn",
    "FeedEdit",
    "Forget",
    "ForgottenError",
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
    "NotAllowedError",
    "NotAnOrderError",
    "NotFoundError",
    "NotSignedInError",
    "Part",
    "PartState",
    "Phylax",
    "PhylaxError",
    "Pressure",
    "PressureStep",
    "ProgramDecision",
    "ProgramRule",
    "ProtectEntry",
    "ProtectKind",
    "ReadyToFetch",
    "Recognition",
    "RecordKind",
    "RefusedError",
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
    "ServiceError",
    "ShopEdit",
    "StepKind",
    "StepState",
    "StillRunningError",
    "System",
    "TokenScope",
    "TryRemoval",
    "TuningRule",
    "Turn",
    "UnreachableError",
    "VolumeChoice",
    "WantedProgram",
    "WantedSetting",
    "WishesEdit",
    "async_sign_in",
    "edit_of",
    "enrol",
    "sign_in",
    "trusted",
]

# httpx brings its own command line, and 4 MiB of libraries for it: it does without where it is told
# that there is none
sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]

_ERRORS = "phylax.client.transport.errors"
_ELSEWHERE = {
    "AgentLink": "phylax.client.transport.link",
    "AsyncPhylax": "phylax.client.aio.shop",
    "Phylax": "phylax.client.families.shop",
    "async_sign_in": "phylax.client.aio.shop",
    "enrol": "phylax.client.transport.link",
    "sign_in": "phylax.client.families.shop",
    "trusted": "phylax.client.transport.http",
}
"""Where a name is that is neither an error nor a type that callers make."""


def __getattr__(name: str) -> object:
    """PEP 562."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    module = _ERRORS if name.endswith("Error") else "phylax.client.edits"
    own_name = name.removeprefix("async_")
    value = globals()[name] = getattr(import_module(_ELSEWHERE.get(name, module)), own_name)
    return value


def __dir__() -> list[str]:
    return __all__
