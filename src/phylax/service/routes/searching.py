"""One search over everything that the shop knows."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query, Response

from phylax.core.people.accounts import Role
from phylax.core.record.searching import Hit, HitGroup, HitKind, Results, read_search
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.csv import as_csv
from phylax.service.problems import documented, invalid
from phylax.service.routes.lookup import find_searched
from phylax.store.record import searching
from phylax.store.record.searching import SearchRequest

router = APIRouter(tags=["search"])
_FORMS: dict[int | str, dict[str, Any]] = {
    200: {
        "content": {
            "text/csv": {"schema": {"type": "string"}},
            "application/jsonl": {"schema": {"type": "string"}},
        }
    }
}
_COLUMNS = ("kind", "title", "line", "machine", "client", "at", "page")


@router.get("/search", response_model=Results, responses=_FORMS | documented(404, 422))
def search(
    context: TheContext,
    actor: Signed,
    words: Annotated[
        str,
        Query(
            max_length=200,
            description="All of these words; or fields: machine:, client:, by:, kind:, from:, to:",
            examples=["tickets-2024.xlsx machine:ferry-desk"],
        ),
    ],
    only: Annotated[list[HitKind], Query(description="Of these kinds")] = [],  # noqa: B006
    limit: Annotated[int, Query(ge=1, le=5000, description="At most so many of each kind")] = 8,
    form: Annotated[
        Literal["json", "csv", "jsonl"], Query(description="CSV and JSON Lines: line by line")
    ] = "json",
) -> Results | Response:
    """What fits in clients, machines, visits, entries, advice, installed programs, and files that
    were held or left: what became of them."""
    try:
        asked = read_search(words)
    except ValueError as error:
        raise invalid("/words", str(error)) from None
    with context.db.read() as conn:
        searched = find_searched(conn, asked)
        is_owner = actor.role is Role.OWNER
        question = SearchRequest(asked.words, *searched, asked.by, asked.kinds, is_owner)
        groups = []
        for kind in only or HitKind:
            hits = searching.search(conn, question, kind, limit=limit + 1)
            if hits:
                groups.append(HitGroup(kind=kind, hits=tuple(hits[:limit]), more=len(hits) > limit))
    all_hits = [hit for group in groups for hit in group.hits]
    if form == "csv":
        return as_csv(_COLUMNS, map(_row, all_hits))
    if form == "jsonl":
        lines = "".join(f"{hit.model_dump_json()}\n" for hit in all_hits)
        return Response(lines, media_type="application/jsonl")
    return Results(groups=tuple(groups))


def _row(hit: Hit) -> tuple[object, ...]:
    return (
        hit.kind, hit.title, hit.line, hit.machine_tag, hit.client_name, hit.at, hit.page,
    )  # fmt: skip
