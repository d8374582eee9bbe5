"""What other systems read: measures by two independent readers, readiness, logs, CSV."""

from __future__ import annotations

import csv
import io
import json
import logging
import subprocess
import time
from datetime import timedelta
from pathlib import Path

import httpx
import pytest

from conftest import Service
from helpers import Clock, free_port, wait_until
from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, Machine
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.scheduling.calendars import FeedEdit
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.service.routes import measures
from phylax.service.telemetry import logs
from phylax.service.telemetry.logs import request_id
from phylax.store.trends import readings

GIB = 2**30
ODD = '=cmd "Ferry\\Sons"\nét al'


@pytest.fixture
def token(owner: Phylax) -> str:
    return owner.people.make_token("measures").token


@pytest.fixture
def filling(owner: Phylax, context: Context, machine: Machine, clock: Clock) -> Machine:
    """A machine of a client with an odd name, whose volume fills."""
    client = next(owner.clients.list())
    owner.clients.change(client, ClientEdit(name=ODD))
    with context.db.write() as conn:
        for day in range(60, -1, -1):
            at = clock.now - timedelta(days=day)
            free = int((40 - 20 * (60 - day) / 60) * GIB)
            reading = ReadingIn(mount="C:", capacity=100 * GIB, free=free, at=at)
            readings.add(conn, machine.id, by_volume([reading]))
    monitor.whole(context)
    return machine


def ask(url: str, token: str, accept: str = "") -> httpx.Response:
    headers = {"Authorization": f"Bearer {token}", "Accept": accept}
    return httpx.get(url, headers=headers, timeout=30)


def test_measures_need_somebody(service: Service) -> None:
    assert httpx.get(f"{service.url}/metrics").status_code == 401


def test_the_text_form_passes_prometheus_own_checker(
    service: Service, filling: Machine, token: str
) -> None:
    answer = ask(f"{service.url}/metrics", token)
    assert answer.headers["content-type"].startswith("text/plain")
    checked = subprocess.run(
        ["promtool", "check", "metrics"], input=answer.content, capture_output=True, check=False
    )
    assert (checked.returncode, checked.stderr) == (0, b"")
    broken = answer.content.replace(b"# TYPE", b"# TYPO", 1) + b"\nnot a measure at all"
    refused = subprocess.run(
        ["promtool", "check", "metrics"], input=broken, capture_output=True, check=False
    )
    assert refused.returncode != 0


def test_a_prometheus_reads_the_openmetrics_form(
    service: Service, filling: Machine, token: str, tmp_path: Path
) -> None:
    """The real program, on loopback, strict about what it is sent."""
    answer = ask(f"{service.url}/metrics", token, "application/openmetrics-text; version=1.0.0")
    assert answer.headers["content-type"].startswith("application/openmetrics-text")
    assert answer.text.endswith("# EOF\n")
    port, credentials = free_port(), tmp_path / "token"
    credentials.write_text(token)
    config = {
        "global": {"scrape_interval": "1s", "scrape_timeout": "1s"},
        "scrape_configs": [{
            "job_name": "shop",
            "authorization": {"credentials_file": str(credentials)},
            "static_configs": [{"targets": [service.url.removeprefix("http://")]}],
        }],
    }  # fmt: skip
    (tmp_path / "prometheus.yml").write_text(json.dumps(config))
    program = subprocess.Popen(
        ["prometheus", f"--config.file={tmp_path}/prometheus.yml",
         f"--storage.tsdb.path={tmp_path}/data", f"--web.listen-address=127.0.0.1:{port}"],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        found = _queried(port, "phylax_volume_free_bytes")
    finally:
        program.terminate()
        program.wait(timeout=60)
    ((labels, value),) = found
    assert (labels["machine"], labels["client"], labels["volume"]) == ("ferry-desk", ODD, "C:")
    assert float(value) == 20 * GIB


def _queried(port: int, query: str) -> list[tuple[dict[str, str], str]]:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        try:
            answer = httpx.get(
                f"http://127.0.0.1:{port}/api/v1/query", params={"query": query}, timeout=5
            )
            if found := answer.json()["data"]["result"]:
                return [(one["metric"], one["value"][1]) for one in found]
        except (httpx.HTTPError, ValueError, KeyError):
            pass
        time.sleep(0.2)
    raise AssertionError(f"Prometheus never saw {query}")


def test_ready_says_what_is_wrong(
    service: Service, context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    deadline = time.monotonic() + 20
    while len(context.beats()) < 4 and time.monotonic() < deadline:
        time.sleep(0.05)
    fine = httpx.get(f"{service.url}/api/v2/ready")
    assert fine.status_code == 200
    assert set(fine.json()["checks"]) == {
        "shop",
        "room",
        "time",
        "watch",
        "post",
        "backup",
        "forgetting",
    }
    monkeypatch.setattr(measures, "_STUCK_AFTER", -1)
    stuck = httpx.get(f"{service.url}/api/v2/ready")
    assert stuck.status_code == 503 and "no sign of life" in stuck.json()["detail"]
    assert httpx.get(f"{service.url}/api/v2/health").status_code == 200


def test_each_request_is_logged_with_its_identifier_and_without_secrets(
    owner: Phylax, service: Service, caplog: pytest.LogCaptureFixture
) -> None:
    feed = owner.calendars.add(FeedEdit(name="Rounds"))
    with caplog.at_level(logging.DEBUG, "phylax.requests"):
        answer = httpx.get(f"{service.url}{feed.path}", headers={"X-Request-ID": "desk-4711-abc"})
        assert answer.headers["X-Request-ID"] == "desk-4711-abc"
        other = httpx.get(
            f"{service.url}/api/v2/machines/nowhere", headers={"X-Request-ID": "two words"}
        )
        assert len(other.headers["X-Request-ID"]) == 32
        # the line is written once the answer is out, so it may come after it
        for said in ("GET /calendar/{address}.ics: 200", "GET /api/v2/machines/{machine}: 401"):
            wait_until(lambda said=said: said in caplog.messages, said)
    assert feed.path.removeprefix("/calendar/").removesuffix(".ics") not in caplog.text


def test_log_lines_are_json_for_programs(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    root = logging.getLogger()
    monkeypatch.setattr(root, "handlers", list(root.handlers))
    level = root.level
    logs.set_up("json", "info")
    mark = request_id.set("desk-4711-abc")
    logging.getLogger("phylax.some").warning("it said %s", '"no"', extra={"seconds": 2})
    request_id.reset(mark)
    root.setLevel(level)
    line = json.loads(capsys.readouterr().err)
    assert line["message"] == 'it said "no"' and line["level"] == "WARNING"
    assert (line["request_id"], line["seconds"], line["from"]) == (
        "desk-4711-abc", 2, "phylax.some",
    )  # fmt: skip


def test_readings_and_prospects_as_csv_and_as_json(
    owner: Phylax, service: Service, filling: Machine, token: str
) -> None:
    url = f"{service.url}/api/v2/machines/{filling.tag}/readings"
    rows = list(csv.DictReader(io.StringIO(ask(url, token, "text/csv").text)))
    points = owner.machines.readings(filling.tag)
    assert [int(row["free"]) for row in rows] == [point.free for point in points]
    assert len(rows) == 61 and rows[-1]["at"].endswith("Z")
    (prospect,) = owner.trends.volumes()
    text = ask(f"{service.url}/api/v2/trends/volumes", token, "text/csv").text
    (row,) = csv.DictReader(io.StringIO(text))
    assert row["machine"] == prospect.machine_tag == "ferry-desk"
    # no spreadsheet takes a name for a formula
    assert row["client"] == "'" + ODD
    assert prospect.crosses is not None and prospect.crosses.likely is not None
    assert row["likely"] == prospect.crosses.likely.isoformat().replace("+00:00", "Z")


def test_trends_over_the_shop(owner: Phylax, filling: Machine) -> None:
    trends = owner.trends.shop()
    assert [prospect.machine_tag for prospect in trends.crossing] == ["ferry-desk"]
    assert trends.over == () and len(trends.weeks) == 26
    assert sum(trends.advised.values()) == 1


def test_a_machines_trend_says_what_may_come(owner: Phylax, filling: Machine, clock: Clock) -> None:
    trend = owner.machines.trend(filling.tag)
    outlook = trend.outlook
    assert (
        outlook is not None and outlook.crosses is not None and outlook.crosses.likely is not None
    )
    # from 40 to 20 GiB free in 60 days; 10 are left at the threshold
    assert abs((outlook.crosses.likely - clock.now).days - 30) <= 2
    assert [point.low <= point.likely <= point.high for point in outlook.cone] == [True] * len(
        outlook.cone
    )
    assert owner.machines.get(filling.tag).volumes[0].crosses == outlook.crosses
