"""What counters of disks mean, and what their movement does."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.checks.disk_health import NoCountersError, counters, findings
from phylax.core.checks.findings import Severity


def said(
    *, passed: bool | None = True, status: int = 0, heat: int = 34, **attributes: int
) -> dict[str, Any]:
    """A spinning disk as its tool gives it; attributes by their numbers, as in a197=3."""
    table = [{"id": int(key[1:]), "raw": {"value": value}} for key, value in attributes.items()]
    spoken: dict[str, Any] = {
        "smartctl": {"exit_status": status},
        "temperature": {"current": heat},
        "ata_smart_attributes": {"table": table},
    }
    return spoken if passed is None else spoken | {"smart_status": {"passed": passed}}


def worst(spoken: dict[str, Any], before: dict[str, Any] | None = None) -> list[Severity]:
    earlier = counters(before) if before else None
    return [finding.severity for finding in findings(counters(spoken), "sda", earlier)]


@pytest.mark.parametrize(
    ("now", "before", "severities"),
    [
        (said(a5=0, a197=0), None, []),
        (said(passed=False), None, [Severity.FAILING]),
        (said(status=0x08), None, [Severity.FAILING]),
        (said(status=0x40), None, []),
        (said(a197=3), None, [Severity.WARNING]),
        (said(a5=4), None, [Severity.NOTE]),
        (said(a5=4), said(a5=4), [Severity.NOTE]),
        (said(a5=5), said(a5=4), [Severity.WARNING]),
        (said(a5=900), said(a5=40), [Severity.FAILING]),
        (said(a197=40), said(a197=12), [Severity.FAILING]),
        (said(a197=12), said(a197=12), [Severity.WARNING]),
        (said(a197=0), said(a197=12), []),
        (said(a199=7), None, []),
        (said(a199=7), said(a199=7), []),
        (said(a199=9), said(a199=7), [Severity.WARNING]),
        (said(heat=67), None, [Severity.WARNING]),
    ],
)
def test_counters_and_their_movement(
    now: dict[str, Any], before: dict[str, Any] | None, severities: list[Severity]
) -> None:
    assert worst(now, before) == severities


def test_a_failing_disk_says_first_to_save_the_data() -> None:
    (finding,) = findings(counters(said(passed=False, a5=2000 - 2000)), "sda")
    assert "save the data first" in finding.what and finding.where == "sda"


@pytest.mark.parametrize(
    ("log", "severities"),
    [
        ({"critical_warning": 0, "percentage_used": 12, "media_errors": 0}, []),
        ({"critical_warning": 4, "percentage_used": 12}, [Severity.FAILING]),
        ({"critical_warning": 0, "percentage_used": 97}, [Severity.WARNING]),
        ({"critical_warning": 0, "media_errors": 3}, [Severity.WARNING]),
    ],
)
def test_a_solid_state_disk(log: dict[str, int], severities: list[Severity]) -> None:
    assert worst({"nvme_smart_health_information_log": log}) == severities


@pytest.mark.parametrize(
    "nothing",
    [{}, {"temperature": {"current": 30}}, {"smartctl": {"exit_status": 1}}, {"smart_status": 5},
     {"ata_smart_attributes": {"table": "x"}}, {"ata_smart_attributes": {"table": [None, 3]}},
     {"nvme_smart_health_information_log": {"critical_warning": True, "media_errors": "many"}},
     {"ata_smart_attributes": {"table": [{"id": 5, "raw": {"value": -1}}]}}],
)  # fmt: skip
def test_a_disk_that_says_nothing_is_not_well(nothing: dict[str, Any]) -> None:
    with pytest.raises(NoCountersError):
        counters(nothing)


_PARTS = (
    "smartctl", "smart_status", "temperature", "ata_smart_attributes",
    "nvme_smart_health_information_log",
)  # fmt: skip
_SMALL = st.text(max_size=5)
_JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | _SMALL,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(_SMALL, inner, max_size=3),
    max_leaves=8,
)


@given(st.fixed_dictionaries({}, optional=dict.fromkeys(_PARTS, _JSON)))
def test_whatever_a_tool_says_is_judged_or_is_nothing(spoken: dict[str, Any]) -> None:
    try:
        counted = counters(json.loads(json.dumps(spoken)))
    except NoCountersError:
        return
    for finding in findings(counted, "sda", counted):
        assert finding.what and finding.where == "sda"
