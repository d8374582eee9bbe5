"""`phylax person` and `phylax token`: what they print, do and refuse."""

from __future__ import annotations

import httpx

from conftest import Service
from helpers import PASSWORD, Run
from phylax.client import Phylax


def test_people_come_and_leave_by_the_command_line(service: Service, phylax: Run) -> None:
    added = phylax("person", "add", "tobias", "--name", "Tobias Quill", "--role", "technician")
    secret = added.stdout.split("/welcome#")[1].strip()
    body = {"secret": secret, "password": "gorse under a slow kettle"}
    url, headers = f"{service.url}/api/v2/welcome", {"Origin": service.url}
    assert httpx.post(url, json=body, headers=headers).status_code == 200
    assert "desk now" in phylax("person", "set-role", "tobias", "desk").stdout
    assert "signed out" in phylax("person", "sign-out", "tobias").stdout
    assert "/welcome#" in phylax("person", "make-link", "tobias").stdout
    refused = phylax("person", "add", "x", "--name", "X", "--role", "captain")
    assert refused.returncode == 2 and "owner" in refused.stderr
    assert phylax("person", "make-link", "nobody").returncode == 2
    left = phylax("person", "leave", "tobias", "--yes")
    assert left.returncode == 0 and "At once end all their sign-ins" in left.stdout
    back = phylax("person", "return", "tobias")
    assert back.returncode == 0 and "/welcome#" in back.stdout
    assert phylax("person", "leave", "tobias", "--yes").returncode == 0
    assert "left" in phylax("person", "list").stdout


def test_a_token_says_what_it_is_good_for(service: Service, phylax: Run) -> None:
    made = phylax("token", "make", "till", "--for", "metrics", "--days", "9").stdout.strip()
    listed = phylax("token", "list").stdout
    assert made.startswith("phylax_") and "metrics" in listed and "never" in listed
    refused = phylax("person", "list", PHYLAX_TOKEN_FILE="", PHYLAX_TOKEN=made)
    assert refused.returncode != 0 and "good for 'metrics' only" in refused.stderr


def test_on_the_services_own_machine(service: Service, phylax: Run, owner: Phylax) -> None:
    data = str(service.context.db.path.parent)
    shown = phylax("person", "let-in", "ines", "--data", data, "--url", "https://shop.example")
    assert shown.stdout.startswith("https://shop.example/welcome#welcome_")
    refused = phylax("person", "let-in", "nobody", "--data", data)
    assert refused.returncode != 0 and "nobody with the login" in refused.stderr
    assert phylax("person", "set-password", "--present", PASSWORD, "--new", "password12").returncode
    assert owner.people.me().login == "ines"
