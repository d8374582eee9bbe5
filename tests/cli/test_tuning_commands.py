"""`phylax program` and `phylax question`: what they print, write and refuse."""

from __future__ import annotations

import json

import pytest

from helpers import Run
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.protocol import SettingsMessage
from phylax.core.tuning.looks import SettingsSurvey
from phylax.core.tuning.programs import Program, Starter, StarterKind
from phylax.service.context.context import Context
from phylax.service.runs import ingest

TIMER = Starter(key="t", kind=StarterKind.TIMER, on=True, when="daily")
ENTRY = Starter(key="s", kind=StarterKind.SIGN_IN, on=True, person="anna")
CHAT = Program(
    key="package:chat", name="Chat", package="chat", description="Talks.", starters=(ENTRY, TIMER)
)


@pytest.fixture
def looked_at(context: Context, owner: Phylax, machine: Machine) -> Machine:
    run = owner.runs.survey(machine.tag)
    look = SettingsSurvey(taken_at=context.clock(), programs=(CHAT,))
    with context.db.write() as conn:
        message = SettingsMessage(id="message-1", run_id=run.id, look=look)
        ingest.apply(conn, machine.id, message, at=context.now())
    return machine


def test_the_story_from_unknown_to_what_would_change(phylax: Run, looked_at: Machine) -> None:
    tag, client = looked_at.tag, looked_at.client_name
    shown = phylax("program", "list", tag, COLUMNS="80").stdout
    assert "unknown" in shown and "sign-in of anna; timer (daily)" in shown
    assert max(len(line) for line in shown.splitlines()) <= 80
    assert "package chat" in phylax("program", "list-unknown").stdout
    words = ("program", "write", "Chat", "--package", "chat", "--runs", "on demand",
             "--asks", "video-calls", "--on", "no")  # fmt: skip
    dry = phylax(*words, "--dry-run").stdout
    assert "Chat: changes on 0 machines, stays on 1 (no answer yet)." in dry
    assert "Nothing was written." in dry
    assert "Nothing is written yet." in phylax("program", "list-known").stdout
    assert "Entry 1 is written: Chat." in phylax(*words).stdout
    assert "video calls" in phylax("program", "list", tag).stdout
    told = phylax(
        "question", "answer", "video-calls", "no", "--client", client, "--comment", "never"
    )
    assert told.stdout.strip() == f"video-calls: no, for {client}."
    assert "never" in phylax("question", "list", "--machine", tag).stdout
    (judged,) = json.loads(phylax("program", "list", tag, "--format", "json").stdout)
    assert (judged["verdict"]["changes"], judged["verdict"]["value"]) == (True, "on demand")
    assert (
        "Chat: at start now, on demand from then on."
        in phylax("program", "change", tag, "--dry-run").stdout
    )
    assert "Nothing was changed" in phylax("program", "list-changes", tag).stdout
    waits = phylax("program", "change", tag, "Chat", "--yes", "--no-wait").stdout
    assert "waits for ferry-desk" in waits
    phylax("program", "set", "package:chat", "--leave", "--machine", tag)
    assert "asked for" in phylax("program", "list", tag).stdout
    assert "struck out" in phylax("program", "strike-out", "1").stdout
    assert "unknown" in phylax("program", "list", tag).stdout


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("program", "write", "X", "--path", "/x", "--stays"),
         "a name or path alone is not enough"),
        (("program", "write", "X", "--package", "x"), "Give --stays, or --runs"),
        (("program", "write", "X", "--package", "x", "--runs", "on demand", "--asks", "plays"),
         "Give --asks and --on together"),
        (("program", "set", "x"), "Give --leave, --nothing, or --runs"),
        (("program", "put-back", "ferry-desk"), "Give the numbers of changes, or --all"),
        (("program", "put-back", "ferry-desk", "7"), "change 7 is not of ferry-desk"),
        (("question", "list"), "Give --client or --machine"),
        (("question", "answer", "tea", "yes", "--machine", "ferry-desk"), "no question 'tea'"),
        (("program", "list", "ferry-desk"), "was not looked at for settings yet; survey it"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_said(
    phylax: Run, machine: Machine, words: tuple[str, ...], says: str
) -> None:
    refused = phylax(*words)
    assert refused.returncode != 0
    assert says in " ".join(refused.stderr.split())
