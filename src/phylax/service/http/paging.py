"""Cursor pages: arrays with a `Link` to the next page (RFC 8288)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Annotated, Any, Protocol, TypeVar

from fastapi import Query, Request, Response
from pydantic import BaseModel

Limit = Annotated[int, Query(ge=1, le=500, description="At most so many")]
After = Annotated[int, Query(ge=0, description="Cursor: continue after this number")]
Before = Annotated[int, Query(ge=1, description="Cursor: continue before this number")]
NEWEST = 2**62


class Numbered(Protocol):
    @property
    def id(self) -> int: ...


N = TypeVar("N", bound=Numbered)


def page(
    rows: Sequence[N], limit: int, request: Request, response: Response, cursor: str
) -> list[N]:
    """The first `limit` of what was found; one more than that means there is a next page."""
    shown = list(rows[:limit])
    if len(rows) > limit:
        link_next(request, response, **{cursor: shown[-1].id})
    return shown


def as_json(models: Iterable[BaseModel], headers: Mapping[str, str] | None = None) -> Response:
    """An array as it is: what was just made needs no checking once more, and these are long."""
    body = "[" + ",".join(model.model_dump_json() for model in models) + "]"
    kept = {name: value for name, value in (headers or {}).items() if name.lower() == "link"}
    return Response(body, media_type="application/json", headers=kept)


def link_next(request: Request, response: Response, **cursor: Any) -> None:
    """Link the next page. The path alone, for a proxy may stand between."""
    url = request.url.include_query_params(**cursor)
    response.headers["Link"] = f'<{url.path}?{url.query}>; rel="next"'
