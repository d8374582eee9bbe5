"""A machine that sends much, or odd things, keeps nobody else waiting."""

from __future__ import annotations

from pathlib import Path

import pytest
from pydantic import ValidationError

from phylax.agent.outbox.sending import Sender
from phylax.agent.outbox.spool import Spool
from phylax.agent.platform.reserve import Reserve
from phylax.client import AgentLink, Phylax, RefusedError, enrol
from phylax.core.protocol import ReadingsMessage
from phylax.core.shop import Machine, MachineFacts, VolumeReadings
from phylax.service.limits import quota
from phylax.service.limits.quota import Quota

FACTS = MachineFacts(
    system="linux", host="\x1b]0;owner\x07the boss", agent_version="1", kind="standin"
)


def readings(number: int, volumes: int = 1) -> ReadingsMessage:
    series = VolumeReadings(mount="/", capacity=9, free=(1,) * number, at=tuple(range(number)))
    return ReadingsMessage(id="m" * 9, volumes=(series,) * volumes)


def test_one_message_holds_no_more_than_is_written_in_a_moment() -> None:
    assert readings(2000, 5)
    with pytest.raises(ValidationError, match="10000 readings"):
        readings(2001, 5)


def test_who_sends_without_an_end_is_told_to_wait_and_nobody_else(
    owner: Phylax, machine: Machine, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(quota, "MOST_MESSAGES", 5)
    code = owner.machines.enrolment_code(machine.id).code
    link = AgentLink(owner.url, enrol(owner.url, code, FACTS).key)
    for number in range(5):
        link.report(readings(1).model_copy(update={"id": f"message-{number}"}))
    with pytest.raises(RefusedError, match="goes on in") as refused:
        link.report(readings(1))
    assert refused.value.status == 429
    each = Quota()
    assert each.take(1, quota.MOST_BYTES) == 0 and each.take(1, 1000) > 0
    assert each.take(2, 1000) == 0


def test_a_machine_does_not_choose_the_name_it_acts_under(owner: Phylax, machine: Machine) -> None:
    code = owner.machines.enrolment_code(machine.id).code
    enrol(owner.url, code, FACTS)
    deed = next(deed for deed in owner.people.audit() if deed.deed == "enrol agent")
    assert deed.who == "agent on ferry-desk" and deed.subject.isprintable()
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if "enrolled" in e.text]
    assert entry.who == "agent on ferry-desk"


class Refusing:
    """A link whose other side says 400: the service, or a proxy before it."""

    def __init__(self, kind: str) -> None:
        self._kind = kind

    def report(self, message: object, *, age: float | None = None) -> None:
        raise RefusedError(400, self._kind, "no", {})


def test_what_a_proxy_refuses_is_kept_and_what_the_service_never_takes_is_put_aside(
    tmp_path: Path,
) -> None:
    spool = Spool(tmp_path / "spool", Reserve(tmp_path / "reserve"))
    spool.put(readings(1))
    with pytest.raises(RefusedError):
        Sender(Refusing(""), spool).send_spooled()  # type: ignore[arg-type]
    assert len(list(spool.waiting())) == 1
    Sender(Refusing("too-deep"), spool).send_spooled()  # type: ignore[arg-type]
    assert list(spool.waiting()) == []
