"""Every operation asked in every role, with what fits, what nearly fits, and what does not: nothing
fails, and each answer is one that the contract names."""

from __future__ import annotations

import json
import random
from collections import Counter
from typing import Any
from urllib.parse import quote

import httpx
import pytest

from conftest import Service
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.people.accounts import TokenScope
from phylax.service.serving.contract import document

CONTRACT = json.loads(document())
SCHEMAS = CONTRACT["components"]["schemas"]
ODD: tuple[Any, ...] = (
    None, "", "x" * 3000, "\x00", "\ud800", "=1+1", "../../etc/passwd", -1, 0, 2**63, 2**200, 1e308,
    True, [], {}, [[[]]], "2026-02-30T00:00:00Z", "P999999999D", "9" * 400, "\u202e",
)  # fmt: skip
ENDS_WHAT_ASKS = {"sign_out", "sign_out_everywhere", "sign_person_out", "leave_for_good",
                  "set_activity", "set_role", "end_sign_in", "change_password"}  # fmt: skip
"""What would leave nobody to go on with."""
WAITS = {"watch", "next_order"}


class Maker:
    """Values for a schema: mostly some that fit."""

    def __init__(self, seed: int) -> None:
        self.random = random.Random(seed)

    def value(self, schema: dict[str, Any], depth: int = 0) -> Any:
        if self.random.random() < 0.08:
            return self.random.choice(ODD)
        if "$ref" in schema:
            return self.value(SCHEMAS[schema["$ref"].rpartition("/")[2]], depth + 1)
        for key in ("anyOf", "oneOf", "allOf"):
            if key in schema:
                return self.value(self.random.choice(schema[key]), depth + 1)
        if "const" in schema:
            return schema["const"]
        if "enum" in schema:
            return self.random.choice(schema["enum"])
        if schema.get("examples") and self.random.random() < 0.7:
            return self.random.choice(schema["examples"])
        match schema.get("type"):
            case "object" if depth < 8:
                wanted = schema.get("required", [])
                made = {
                    name: self.value(inner, depth + 1)
                    for name, inner in schema.get("properties", {}).items()
                    if name in wanted or self.random.random() < 0.5
                }
                return made | ({"unknown": 1} if self.random.random() < 0.05 else {})
            case "array" if depth < 8:
                inner = schema.get("items", {})
                return [self.value(inner, depth + 1) for _ in range(self.random.randrange(3))]
            case "integer":
                return self.random.choice((0, 1, 2, 7, 100, -1))
            case "number":
                return self.random.choice((0, 0.5, 1, 30, -1))
            case "boolean":
                return self.random.random() < 0.5
            case "null":
                return None
        return self.random.choice(("ferry-desk", "trash", "1", "shop", "x", "2026-03-02"))


def asked(
    maker: Maker, path: str, method: str, operation: dict[str, Any]
) -> tuple[str, dict[str, Any]]:
    """An address, and what goes with it."""
    query, headers = {}, {}
    for parameter in operation.get("parameters", []):
        value = maker.value(parameter["schema"])
        if parameter["in"] == "path":
            plain = str(value).encode("utf-8", "replace").decode()
            name = f"{{{parameter['name']}}}"
            path = path.replace(name, quote(plain.replace("/", "_") or "x", safe="")[:300])
        elif parameter["in"] == "query" and maker.random.random() < 0.6:
            query[parameter["name"]] = str(value).encode("utf-8", "replace").decode()[:500]
    if maker.random.random() < 0.3:
        headers["If-Match"] = maker.random.choice(('"1"', 'W/"1"', "1", "*", '"' * 50))
    if maker.random.random() < 0.2:
        headers["Idempotency-Key"] = maker.random.choice(("a" * 8, "x" * 300, "é".encode().hex()))
    said: dict[str, Any] = {"params": query, "headers": headers}
    body = operation.get("requestBody")
    if body and "application/octet-stream" in body["content"]:
        said["content"] = maker.random.choice(
            (b"", b"%PDF-", b"%PDF-1.7 [[[", b"\x89PNG\r\n\x1a\n", b"GIF89a", b"\xff\xd8\xff", b"x")
        ) + maker.random.randbytes(maker.random.choice((0, 9, 3000)))
        headers["Content-Type"] = maker.random.choice(
            ("application/octet-stream", "application/json", "text/html", "")
        )
    elif body:
        value = maker.value(body["content"]["application/json"]["schema"])
        text = json.dumps(value).encode("utf-8", "replace")
        if maker.random.random() < 0.05:
            text = maker.random.choice((b"", b"{", b"\xff\xfe", b"[" * 200, b'"\\ud800"'))
        said["content"] = text
        headers["Content-Type"] = "application/json"
    return path, said


@pytest.mark.parametrize("role", ["nobody", "owner", "wren", "petra", "read", "agent"])
def test_nothing_fails_and_every_answer_is_documented(
    service: Service, owner: Phylax, machine: Machine, role: str
) -> None:
    authorization = {
        "nobody": "",
        "owner": f"Bearer {owner.secret}",
        "read": f"Bearer {owner.people.make_token('r', TokenScope.READ).token}",
        "agent": "Bearer agent_nobody",
    }.get(role) or ""
    if role in ("wren", "petra"):
        with service.as_(role) as person:
            authorization = f"Bearer {person.secret}"
    maker, seen = Maker(len(role)), Counter[int]()
    wrong: dict[tuple[int, str], object] = {}
    with httpx.Client(base_url=service.url, timeout=60) as client:
        for path, operations in CONTRACT["paths"].items():
            for method, operation in operations.items():
                name = operation["operationId"]
                if name in WAITS or (name in ENDS_WHAT_ASKS and role != "nobody"):
                    continue
                for _ in range(4):
                    address, said = asked(maker, path, method, operation)
                    said["headers"]["Authorization"] = authorization
                    if not authorization:
                        del said["headers"]["Authorization"]
                    answer = client.request(method.upper(), address, **said)
                    seen[answer.status_code] += 1
                    shown = (method, address, said, answer.text[:500])
                    fine = answer.status_code < 500 or answer.status_code in (503, 507)
                    if not fine or str(answer.status_code) not in operation["responses"]:
                        wrong.setdefault((answer.status_code, name), shown)
    assert not wrong, "\n".join(f"{key}: {shown}" for key, shown in wrong.items())
    assert sum(seen.values()) > 400
    if role == "owner":
        assert len(seen) >= 8, seen
