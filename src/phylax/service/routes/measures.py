"""Whether the service lives, whether it is ready, and what it measures."""

from __future__ import annotations

import shutil

from fastapi import APIRouter, Request, Response

from phylax import __version__
from phylax.core.ground.values import Value
from phylax.service.context.context import Context, TheContext
from phylax.service.http.auth import Signed
from phylax.service.problems import Problem, documented
from phylax.store.clients import shop

router = APIRouter(tags=["measures"])
public = APIRouter(tags=["measures"])
_ROOM = 64 * 2**20
_STUCK_AFTER = 300


class Health(Value):
    status: str
    version: str


class Ready(Value):
    """Everything the service needs to do its work."""

    ready: bool
    version: str
    checks: dict[str, str]


@router.get("/health")
def health(context: TheContext) -> Health:
    """Whether the service answers and its file can be read."""
    with context.db.read() as conn:
        conn.execute("SELECT 1").fetchone()
    return Health(status="ok", version=__version__)


@router.get("/ready", responses=documented(503))
def ready(context: TheContext) -> Ready:
    """Whether it can do its work: write, keep time, keep watch; 503 says what is wrong."""
    checks = _checks(context)
    wrong = {name: word for name, word in checks.items() if word != "ok"}
    if wrong:
        problems_named = "; ".join(f"{name}: {word}" for name, word in wrong.items())
        raise Problem(503, "not-ready", f"The service is not ready. {problems_named}.")
    return Ready(ready=True, version=__version__, checks=checks)


def _checks(context: Context) -> dict[str, str]:
    checks = {}
    with context.db.read() as conn:
        checks["shop"] = "ok" if shop.shop(conn) else "no shop was opened"
    free = shutil.disk_usage(context.db.path.parent).free
    checks["room"] = "ok" if free > _ROOM else f"only {free} bytes are free for its file"
    for name, age in context.beats().items():
        checks[name] = "ok" if age < _STUCK_AFTER else f"no sign of life for {age:.0f} s"
    return checks


@public.get("/metrics", responses=documented(400, 401, 414))
def metrics(request: Request, actor: Signed) -> Response:
    """Measures, as OpenMetrics where that is asked for, else in Prometheus' text form."""
    body, media_type = request.app.state.measures.exposed(request.headers.get("accept", ""))
    return Response(body, media_type=media_type)
