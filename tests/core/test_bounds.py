"""Whatever comes in has a bound: every text, every list; and says nothing that cannot be."""

from __future__ import annotations

import importlib
import pkgutil
from datetime import UTC, datetime
from typing import Any

import pytest
from pydantic import BaseModel, ValidationError

import phylax.core
from phylax.core.clients.shop import ClientEdit
from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.readings import ReadingIn, VolumeReadings
from phylax.core.ground.values import LONGEST_TEXT, Demand, Value


def models() -> list[type[BaseModel]]:
    for module in pkgutil.walk_packages(phylax.core.__path__, "phylax.core."):
        importlib.import_module(module.name)

    def below(kind: type[BaseModel]) -> list[type[BaseModel]]:
        return [kind, *(m for other in kind.__subclasses__() for m in below(other))]

    return [*below(Value), *below(Demand)]


def texts(schema: Any) -> list[dict[str, Any]]:
    if isinstance(schema, dict):
        own = [schema] if schema.get("type") == "str" else []
        return own + [text for part in schema.values() for text in texts(part)]
    if isinstance(schema, (list, tuple)):
        return [text for part in schema for text in texts(part)]
    return []


def test_every_text_of_every_model_has_a_bound() -> None:
    known = models()
    assert len(known) > 150
    for model in known:
        bound = model.model_config.get("str_max_length")
        assert bound == LONGEST_TEXT, model
        for text in texts(model.__pydantic_core_schema__):
            assert text.get("max_length", bound) <= 2**26, (model, text)


def test_a_text_beyond_it_is_refused() -> None:
    with pytest.raises(ValidationError, match="at most"):
        ClientEdit(name="x", note="y" * (LONGEST_TEXT + 1))


def test_no_volume_has_more_free_than_it_holds() -> None:
    at = datetime(2026, 3, 2, tzinfo=UTC)
    assert ReadingIn(mount="/", capacity=10, free=2**60, at=at).free == 10
    assert VolumeReadings(mount="/", capacity=10, free=(5, 99), at=(1, 2)).free == (5, 10)


def test_what_a_machine_calls_itself_moves_no_cursor() -> None:
    facts = MachineFacts(
        system="linux", host="\x1b[2Jowner\n" + "x" * 999, agent_version="1", kind="linux"
    )
    assert facts.host.isprintable() and len(facts.host) == 200
