"""Errors of the client library.

PhylaxError
├── UnreachableError        the service could not be reached: does it run at this address?
├── ClearHttpError         nothing was sent: others on the way could read it
├── StillRunningError      a run had not ended when following it was to stop; `run` is how far it is
├── NotAnOrderError         an agent was sent something that is no order: nothing was done
└── RefusedError            the service answered with a problem (RFC 9457)
    ├── NotSignedInError      401: sign in again, or make a new token
    ├── NotAllowedError       403: the role does not allow it
    ├── NotFoundError         404: what was named is not there
    ├── ChangedMeanwhileError 412: somebody changed it; `current` is what it is now
    └── ServiceError          5xx: the service failed; its log says why
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import httpx

if TYPE_CHECKING:
    from phylax.core.runs.runs import RunDetail


class PhylaxError(Exception):
    """Anything that can go wrong between a program and the service."""


class UnreachableError(PhylaxError):
    """The service could not be reached. Trying again later may help.

    `answered`: its machine was reached all the same, so that the network is not to blame.
    """

    def __init__(self, detail: str, *, answered: bool = False) -> None:
        super().__init__(detail)
        self.answered = answered


class ClearHttpError(PhylaxError):
    """The address is one at which others on the way could read passwords and keys."""


class StillRunningError(PhylaxError, TimeoutError):
    """A run had not ended in the time for which it was followed. It goes on; `run` is how far it
    was when it was last heard of, None where nothing was."""

    def __init__(self, run_id: int, run: RunDetail | None) -> None:
        super().__init__(f"run {run_id} has not ended yet; it goes on")
        self.run = run


class NotAnOrderError(PhylaxError):
    """What an agent was sent is none of the fixed set of orders."""


class RefusedError(PhylaxError):
    """The service answered with a problem: `status`, `kind`, and `errors` by field."""

    def __init__(self, status: int, kind: str, detail: str, body: dict[str, Any]) -> None:
        super().__init__(detail)
        self.status = status
        self.kind = kind
        self.detail = detail
        self.errors: list[dict[str, str]] = body.get("errors", [])
        self.body = body


class NotSignedInError(RefusedError):
    """No valid token or key was sent."""


class ForgottenError(RefusedError):
    """The client of the agent's machine was forgotten."""


class NotAllowedError(RefusedError):
    """The person's role does not allow it."""


class NotFoundError(RefusedError):
    """What was named is not there."""


class ChangedMeanwhileError(RefusedError):
    """Somebody else changed it since it was read."""

    @property
    def current(self) -> dict[str, Any]:
        """What it is now."""
        sent: dict[str, Any] = self.body.get("current", {})
        return sent


class ServiceError(RefusedError):
    """The service failed."""


_BY_STATUS: dict[int, type[RefusedError]] = {
    401: NotSignedInError,
    403: NotAllowedError,
    404: NotFoundError,
    412: ChangedMeanwhileError,
}


def from_response(response: httpx.Response) -> RefusedError:
    """The error that a response with a problem stands for."""
    try:
        body = response.json()
    except ValueError:
        body = {}
    if not isinstance(body, dict):
        body = {}
    status = response.status_code
    default = ServiceError if status >= 500 else RefusedError
    kind = str(body.get("type", "")).rpartition(":")[2]
    detail = str(body.get("detail") or response.reason_phrase)
    if status == 410 and kind == "forgotten":
        # a proxy says 410 for reasons of its own: by that alone nobody may forget anything
        return ForgottenError(status, kind, detail, body)
    return _BY_STATUS.get(status, default)(status, kind, detail, body)
