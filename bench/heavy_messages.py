"""How long others wait while one machine sends the heaviest messages that are taken: a note that a
person writes, against the same note in a quiet house, in the same run.

    python -m bench.heavy_messages
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
import uuid
from datetime import UTC, datetime, timedelta
from pathlib import Path

from bench.strangers import PASSWORD, service
from phylax.client import AgentLink, Phylax, RefusedError, enrol, sign_in
from phylax.core.catalogue import catalogue
from phylax.core.clients.shop import ClientEdit, MachineEdit
from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.tally import Tally
from phylax.core.protocol import SurveyMessage
from phylax.core.retention import RuleInForce
from phylax.core.survey import AgeDay, SurveyKind, SurveyLine

_NOTES = 60
_MESSAGES = 6
"""As many as a machine may send at once by its share."""


def main() -> None:
    with (
        tempfile.TemporaryDirectory() as folder,
        service(Path(folder)) as (url, _),
        Phylax(url, sign_in(url, "ines", PASSWORD), timeout=120) as owner,
    ):
        client = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
        machine = owner.machines.add(MachineEdit(tag="yard", client_id=client.id, system="linux"))
        facts = MachineFacts(system="linux", host="yard", agent_version="1", kind="standin")
        key = enrol(url, owner.machines.enrolment_code("yard").code, facts).key
        run = owner.runs.survey("yard")
        size = len(_survey(run.id).model_dump_json())
        quiet = _notes(owner, machine.id)
        # in a process of its own: what it costs to write them is not the service's
        command = [sys.executable, "-m", "bench.heavy_messages", url, key, str(run.id)]
        with subprocess.Popen(command, stdout=subprocess.PIPE) as sending:
            assert sending.stdout is not None
            sending.stdout.readline()
            beset = _notes(owner, machine.id, while_runs=sending)
    p95 = [statistics.quantiles(took, n=20)[-1] for took in (quiet, beset)]
    print(
        f"a note while one machine sends {_MESSAGES} surveys of {size / 2**20:.1f} MiB: "
        f"p95 {p95[1] * 1e3:.0f} ms, longest {max(beset) * 1e3:.0f} ms of {len(beset)}; "
        f"quiet p95 {p95[0] * 1e3:.0f} ms, longest {max(quiet) * 1e3:.0f} ms; "
        f"ratio of p95 {p95[1] / p95[0]:.1f}"
    )


def _notes(
    owner: Phylax, machine: int, while_runs: subprocess.Popen[bytes] | None = None
) -> list[float]:
    took: list[float] = []
    while while_runs.poll() is None if while_runs else len(took) < _NOTES:
        began = time.perf_counter()
        owner.records.add_note(machine, "Looked at it.")
        took.append(time.perf_counter() - began)
        time.sleep(0.02)
    return took


def _send(url: str, key: str, run_id: int) -> None:
    link = AgentLink(url, key)
    messages = [_survey(run_id) for _ in range(_MESSAGES)]
    print("ready", flush=True)
    for message in messages:
        try:
            link.report(message)
        except RefusedError as error:
            print(f"refused: {error}")


def _survey(run_id: int) -> SurveyMessage:
    """Near the most that is taken: two thousand lines with their days of age."""
    now = datetime.now(UTC)
    rule = RuleInForce(off=False, keep_for=timedelta(days=2))
    known = list(catalogue())
    some = Tally(count=3, size=10**9)
    ages = tuple(AgeDay(day=day, count=1, size=10**9) for day in range(150))
    lines = (
        SurveyLine(
            category=known[n % len(known)], mount=f"/v{n // len(known)}", rule=rule, total=some,
            removable=some, ages=ages, digest="x" * 64,
        )
        for n in range(1950)
    )  # fmt: skip
    return SurveyMessage(
        id=uuid.uuid4().hex, run_id=run_id, survey_kind=SurveyKind.FIRST, started_at=now,
        ended_at=now,
        lines=tuple(lines),
    )  # fmt: skip


if __name__ == "__main__":
    if len(sys.argv) == 4:
        _send(sys.argv[1], sys.argv[2], int(sys.argv[3]))
    else:
        main()
