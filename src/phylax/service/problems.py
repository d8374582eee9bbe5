"""Problems by RFC 9457: what was wrong with which value, what is allowed, what to do."""

from __future__ import annotations

import logging
import sqlite3
from collections.abc import Iterable
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic import Field, ValidationError
from starlette.exceptions import HTTPException

from phylax.core.ground.suggestions import did_you_mean
from phylax.core.ground.values import Value

MEDIA_TYPE = "application/problem+json"
_log = logging.getLogger("phylax.service")


class FieldProblem(Value):
    """One field that is wrong."""

    pointer: str = Field(description="JSON pointer (RFC 6901) into the body, or the parameter")
    detail: str


class ProblemBody(Value):
    """RFC 9457."""

    type: str = Field(examples=["urn:phylax:problem:not-found"])
    title: str = Field(examples=["Not found"])
    status: int = Field(examples=[404])
    detail: str = Field("", examples=["There is no machine 'ferry-dask'."])
    errors: tuple[FieldProblem, ...] = ()


class Problem(Exception):
    """Raised anywhere in a request; answered as problem+json."""

    def __init__(
        self,
        status: int,
        kind: str,
        detail: str,
        *,
        pointer: str | None = None,
        headers: dict[str, str] | None = None,
        **more: Any,
    ) -> None:
        super().__init__(detail)
        self.status = status
        self.kind = kind
        self.detail = detail
        self.errors = [FieldProblem(pointer=pointer, detail=detail)] if pointer else []
        self.headers = headers or {}
        self.more = more

    def response(self) -> JSONResponse:
        body = ProblemBody(
            type=f"urn:phylax:problem:{self.kind}",
            title=self.kind.replace("-", " ").capitalize(),
            status=self.status,
            detail=self.detail,
            errors=tuple(self.errors),
        ).model_dump(mode="json")
        return JSONResponse(body | self.more, self.status, self.headers, MEDIA_TYPE)


def not_found(what: str, which: object, known: Iterable[str] = ()) -> Problem:
    """Nothing of that name or number; where names are known, which one it most likely was."""
    return Problem(
        404, "not-found", f"There is no {what} {which!r}{did_you_mean(str(which), known)}"
    )


def _said(error: FieldProblem) -> str:
    """What is wrong with a field, in a sentence that names it where its own words do not."""
    field = error.pointer.strip("/").replace("_", " ").replace("/", " ")
    return f"{field}: {error.detail}" if field else error.detail


def invalid(pointer: str, detail: str) -> Problem:
    """A value that is well formed but not allowed."""
    return Problem(422, "not-allowed", detail, pointer=pointer)


def storage_problem(error: sqlite3.DatabaseError) -> Problem:
    """What the file of the shop, or the disk below it, has against it."""
    _log.error("the shop's file: %s (%s)", error, getattr(error, "sqlite_errorname", "unknown"))
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    if code == sqlite3.SQLITE_FULL:
        return Problem(507, "disk-full", "The service's disk is full: nothing was changed. "
                       "Make room on it, and try again.")  # fmt: skip
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return Problem(503, "busy", "Something else is writing; nothing was changed. Try again.",
                       headers={"Retry-After": "2"})  # fmt: skip
    if code == sqlite3.SQLITE_READONLY:
        return Problem(503, "read-only", "The shop's file cannot be written: nothing was changed. "
                       "Look at the rights of its folder, and at the disk.")  # fmt: skip
    if code in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB):
        return Problem(503, "damaged", "The shop's file is damaged. Stop the service, and restore "
                       "the last backup: phylax backup restore.")  # fmt: skip
    if code in (sqlite3.SQLITE_IOERR, sqlite3.SQLITE_CANTOPEN):
        return Problem(503, "disk-fails", "The service's disk cannot be read or written. Look at "
                       "the disk and at the log.")  # fmt: skip
    return Problem(500, "unexpected", "The service failed; its log says why.")


def install(app: FastAPI) -> None:
    """Answer every failure of the app as a problem."""

    @app.exception_handler(Problem)
    def problem(request: Request, error: Problem) -> JSONResponse:
        return error.response()

    @app.exception_handler(RequestValidationError)
    def bad_request(request: Request, error: RequestValidationError) -> JSONResponse:
        problem = Problem(422, "not-allowed", "Some values are not allowed.")
        problem.errors = [
            FieldProblem(
                pointer="/" + "/".join(str(p) for p in e["loc"][1:]),
                detail=e["msg"].removeprefix("Value error, "),
            )
            for e in error.errors()
        ]
        problem.detail = "; ".join(_said(e) for e in problem.errors[:3])
        return problem.response()

    @app.exception_handler(HTTPException)
    def http(request: Request, error: HTTPException) -> JSONResponse:
        kind = {404: "not-found", 405: "method-not-allowed"}.get(error.status_code, "refused")
        return Problem(
            error.status_code, kind, str(error.detail), headers=dict(error.headers or {})
        ).response()

    @app.exception_handler(sqlite3.IntegrityError)
    def taken(request: Request, error: sqlite3.IntegrityError) -> JSONResponse:
        text = str(error)
        if not text.startswith("UNIQUE"):
            return unexpected(request, error)
        field = text.rpartition(".")[2]
        return Problem(
            409, "taken", f"This {field} is taken already.", pointer=f"/{field}"
        ).response()

    @app.exception_handler(sqlite3.OperationalError)
    def storage(request: Request, error: sqlite3.OperationalError) -> JSONResponse:
        return storage_problem(error).response()

    @app.exception_handler(sqlite3.DatabaseError)
    def damaged(request: Request, error: sqlite3.DatabaseError) -> JSONResponse:
        return storage_problem(error).response()

    @app.exception_handler(ValidationError)
    def unreadable(request: Request, error: ValidationError) -> JSONResponse:
        """What a request says is read before; this is what was kept."""
        _log.error("%s %s: what is kept cannot be read", request.method, request.url.path,
                   exc_info=error)  # fmt: skip
        return Problem(503, "damaged", "Something in the shop's file cannot be read; the log says "
                       "what. If its disk is failing, stop the service and restore the last "
                       "backup: phylax backup restore.").response()  # fmt: skip

    @app.exception_handler(OverflowError)
    def too_large(request: Request, error: OverflowError) -> JSONResponse:
        detail = f"A number is too large; allowed are whole numbers up to {2**63 - 1}."
        return Problem(422, "not-allowed", detail).response()

    @app.exception_handler(Exception)
    def unexpected(request: Request, error: Exception) -> JSONResponse:
        _log.error("%s %s failed", request.method, request.url.path, exc_info=error)
        return Problem(500, "unexpected", "The service failed; its log says why.").response()


def documented(*statuses: int) -> dict[int | str, dict[str, Any]]:
    """OpenAPI responses for problems."""
    content = {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/ProblemBody"}}}
    titles = {
        400: "Not understood",
        401: "Not signed in", 403: "Not allowed for this role", 404: "Not found",
        408: "Came too slowly", 409: "In conflict with what is there", 410: "Forgotten",
        412: "Changed meanwhile",
        413: "Too large", 414: "Address too long", 422: "Value not allowed",
        428: "If-Match is missing", 429: "Too many tries", 503: "Not ready",
        507: "The disk is full",
    }  # fmt: skip
    return {s: {"description": titles[s], "content": content} for s in statuses}
