"""Events: something changed. What it is now is asked for."""

from __future__ import annotations

from enum import StrEnum

from phylax.core.ground.values import Moment, Value


class EventKind(StrEnum):
    SHOP = "shop"
    CLIENT = "client"
    MACHINE = "machine"
    READING = "reading"
    RULE = "rule"
    ROUND = "round"
    RUN = "run"
    SURVEY = "survey"
    RECORD = "record"
    CONSENT = "consent"
    HOLD = "hold"
    ATTENTION = "attention"
    SETTING = "setting"
    CHECK = "check"


class Event(Value):
    id: int
    at: Moment
    kind: EventKind
    machine_id: int | None = None
    run_id: int | None = None
