"""The client library: everything the service does, typed.

from phylax.client import Phylax

with Phylax("http://127.0.0.1:8610", token) as shop:
    run = shop.runs.survey("ferry-desk")
    for state in shop.runs.follow(run.id):
        print(state.state, state.progress)
    print(shop.machines.ledger("ferry-desk").goes)
"""

from phylax.client._errors import (
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
    UnreachableError,
)
from phylax.client._http import trusted
from phylax.client._link import AgentLink, enrol
from phylax.client._shop import Phylax, sign_in

__all__ = [
    "AgentLink",
    "ChangedMeanwhileError",
    "ClearHttpError",
    "ForgottenError",
    "NotAllowedError",
    "NotAnOrderError",
    "NotFoundError",
    "NotSignedInError",
    "Phylax",
    "PhylaxError",
    "RefusedError",
    "ServiceError",
    "UnreachableError",
    "enrol",
    "sign_in",
    "trusted",
]
