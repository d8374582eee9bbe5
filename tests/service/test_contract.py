"""The contract: what is documented, how problems, edits, repeats and pages behave."""

import gzip
import json
from pathlib import Path

import httpx
import pytest
from pydantic import BaseModel

from conftest import Service
from phylax.client import ChangedMeanwhileError, NotFoundError, Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit, ShopEdit
from phylax.service.http.examples import EXAMPLES
from phylax.service.http.static import BUILT
from phylax.service.serving.contract import document

ROOT = Path(__file__).parents[2]


def test_the_kept_openapi_document_is_the_services() -> None:
    kept = (ROOT / "docs/openapi.json").read_text(encoding="utf-8")
    assert kept == document(), "run 'make contract' and commit docs/openapi.json"


def test_every_body_is_strict_and_every_operation_says_what_it_is_for() -> None:
    contract = json.loads(document())
    for path, operations in contract["paths"].items():
        for method, operation in operations.items():
            assert operation.get("summary"), (method, path)
            body = operation.get("requestBody")
            if not body:
                continue
            if list(body["content"]) == ["application/octet-stream"]:
                continue
            schema = body["content"]["application/json"]["schema"]
            for ref in [schema, *schema.get("oneOf", [])]:
                name = ref.get("$ref", "").rpartition("/")[2]
                if name:
                    model = contract["components"]["schemas"][name]
                    assert model["additionalProperties"] is False, name
                    assert model["examples"], f"{name} has no example"


@pytest.mark.parametrize(("body", "example"), EXAMPLES.items(), ids=lambda b: str(b)[:40])
def test_every_example_is_one_that_would_be_taken(body: type[BaseModel], example: dict) -> None:
    sent = body.model_validate_json(json.dumps(example))
    assert sent.model_fields_set == example.keys()


def test_a_problem_points_at_the_field_and_says_what_is_allowed(owner: Phylax) -> None:
    answer = httpx.post(
        f"{owner.url}/api/v2/machines",
        json={"tag": "Ferry Desk", "client_id": 1, "system": "beos", "colour": "red"},
        headers={"Authorization": owner._client.headers["Authorization"]},
    )
    assert (answer.status_code, answer.headers["content-type"]) == (422, "application/problem+json")
    problem = answer.json()
    assert {e["pointer"] for e in problem["errors"]} == {"/tag", "/system", "/colour"}
    assert "'windows', 'macos' or 'linux'" in problem["detail"]


def test_what_is_not_there_is_a_problem_too(owner: Phylax) -> None:
    with pytest.raises(NotFoundError, match="ferry-dask"):
        owner.machines.get("ferry-dask")
    assert httpx.get(f"{owner.url}/api/v2/nowhere").json()["status"] == 404


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("GET", "/clients?after=99999999999999999999", None),
        ("GET", "/runs/99999999999999999999", None),
        ("POST", "/machines", {"tag": "a", "client_id": 10**20, "system": "linux"}),
        ("POST", "/machines", {"tag": "a", "client_id": 1, "system": "linux", "memory": 10**20}),
        ("POST", "/records", {"machine_id": 1, "text": "t", "corrects": 10**20}),
    ],
)
def test_a_number_that_no_file_can_hold_is_refused(
    owner: Phylax, machine: Machine, method: str, path: str, body: dict | None
) -> None:
    answer = owner._client.request(method, f"/api/v2{path}", json=body)
    assert answer.status_code == 422, answer.text
    assert answer.json()["detail"]


def test_a_taken_name_is_a_conflict_and_loses_nothing(owner: Phylax, machine: Machine) -> None:
    with pytest.raises(RefusedError) as taken:
        owner.machines.add(
            MachineEdit(tag=machine.tag, client_id=machine.client_id, system="macos")
        )
    assert (taken.value.status, taken.value.errors[0]["pointer"]) == (409, "/tag")
    assert owner.machines.get(machine.tag).system == "linux"


def test_two_people_editing_at_once_both_learn_of_it(owner: Phylax, service: Service) -> None:
    made = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
    with service.as_("petra") as desk:
        desk.clients.change(made, ClientEdit(name="Kelpie Boatyard", phone="12"))
        with pytest.raises(ChangedMeanwhileError, match="Petra Lund") as late:
            owner.clients.change(made, ClientEdit(name="Kelpie Boats"))
    assert late.value.current["phone"] == "12"
    with pytest.raises(RefusedError) as blind:
        owner.put(dict, f"/clients/{made.id}", ClientEdit(name="x"), None)
    assert blind.value.status == 428
    assert owner.clients.get(made.id).phone == "12"


def test_a_repeated_request_is_done_once(owner: Phylax) -> None:
    def ask(name: str) -> httpx.Response:
        return owner.send(
            "POST", "/clients", body=ClientEdit(name=name), headers={"Idempotency-Key": "k1"}
        )

    first, second = ask("Harbour Choir"), ask("Harbour Choir")
    assert first.json() == second.json()
    assert len(list(owner.clients.list())) == 1
    with pytest.raises(RefusedError, match="another request"):
        ask("Somebody else")


def test_pages_are_linked_and_the_client_follows_them(owner: Phylax) -> None:
    for number in range(7):
        owner.clients.add(ClientEdit(name=f"Client {number}"))
    response = owner.send("GET", "/clients", params={"limit": 3})
    assert len(response.json()) == 3 and 'rel="next"' in response.headers["link"]
    names = [c.name for c in owner.pages(type(owner.clients.get(1)), "/clients", limit=3)]
    assert names == [f"Client {n}" for n in range(7)]


def test_every_change_is_in_the_audit_with_before_and_after(owner: Phylax) -> None:
    shop = owner.shop()
    owner.change_shop(shop, ShopEdit(name="Quayside Repair", zone=shop.zone, threshold_percent=85))
    newest = owner.people.audit()[0]
    assert (newest.who, newest.action) == ("Ines Marrow", "change shop")
    assert '"threshold_percent":90' in (newest.before or "")
    assert '"threshold_percent":85' in (newest.after or "")


def test_events_can_be_taken_up_where_one_left_off(owner: Phylax) -> None:
    def events_after(last: int, wanted: int) -> list[dict]:
        found: list[dict] = []
        headers = {
            "Authorization": owner._client.headers["Authorization"], "Last-Event-ID": str(last),
        }  # fmt: skip
        with httpx.stream("GET", f"{owner.url}/api/v2/events", headers=headers, timeout=10) as line:
            for text in line.iter_lines():
                if text.startswith("data:"):
                    found.append(json.loads(text.removeprefix("data:")))
                if len(found) == wanted:
                    return found
        raise AssertionError("the stream ended early")

    for name in ("a", "b", "c"):
        owner.clients.add(ClientEdit(name=name))
    every = events_after(0, 3)
    assert [e["kind"] for e in every] == ["client"] * 3
    assert events_after(every[0]["id"], 2) == every[1:]


def test_the_console_is_served_under_a_strict_policy(service: Service) -> None:
    page = httpx.get(f"{service.url}/machines/ferry-desk")
    policy = page.headers["content-security-policy"]
    assert page.status_code == 200 and "Phylax" in page.text
    assert "default-src 'none'" in policy and "script-src 'self' 'sha256-" in policy
    assert "unsafe-inline" not in policy.split("style-src-attr")[0]
    assert httpx.get(f"{service.url}/_app/immutable/gone.js").status_code == 404
    assert httpx.get(f"{service.url}/..%2f..%2fserve.py").text == page.text


@pytest.mark.parametrize("taken", ["br", "gzip", "br;q=0, gzip", "identity"])
def test_built_files_are_sent_in_the_form_that_the_browser_takes(
    service: Service, taken: str
) -> None:
    largest = max(BUILT.glob("_app/immutable/**/*.js"), key=lambda file: file.stat().st_size)
    script = f"/{largest.relative_to(BUILT).as_posix()}"
    with httpx.stream("GET", service.url + script, headers={"Accept-Encoding": taken}) as answer:
        raw = b"".join(answer.iter_raw())
        assert answer.headers["Vary"] == "Accept-Encoding"
        assert answer.headers["Content-Type"].startswith("text/javascript")
        assert "immutable" in answer.headers["Cache-Control"]
    encoding = {"br;q=0, gzip": "gzip", "identity": None}.get(taken, taken)
    assert answer.headers.get("Content-Encoding") == encoding
    plain = httpx.get(service.url + script, headers={"Accept-Encoding": "identity"}).content
    if encoding == "gzip":
        assert gzip.decompress(raw) == plain
    assert (len(raw) < len(plain)) == (encoding is not None)


def test_long_answers_are_compressed_and_the_stream_of_events_is_not(owner: Phylax) -> None:
    for number in range(40):
        owner.clients.add(ClientEdit(name=f"client {number}"))
    headers = {
        "Authorization": owner._client.headers["Authorization"], "Accept-Encoding": "gzip",
    }  # fmt: skip
    answer = httpx.get(f"{owner.url}/api/v2/clients", headers=headers)
    assert answer.headers["Content-Encoding"] == "gzip" and len(answer.json()) == 40
    with httpx.stream("GET", f"{owner.url}/api/v2/events", headers=headers, timeout=10) as line:
        assert "Content-Encoding" not in line.headers
