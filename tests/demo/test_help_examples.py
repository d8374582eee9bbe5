"""Every example that a help shows is run, in the table's order, on the made-up shop."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from subprocess import CompletedProcess

import click
import pytest
from jsonschema import Draft202012Validator, FormatChecker
from PIL import Image
from tools import outputs

from conftest import Service, serving
from helpers import Clock, free_port
from phylax.agent.config.home import AgentHome
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.runtime import commands
from phylax.cli import main
from phylax.cli.examples import examples
from phylax.cli.root import _phylax
from phylax.cli.session import clock as _clock
from phylax.client import Phylax
from phylax.demo import held, scenario
from phylax.service.context.context import Context
from phylax.service.serving.serve import FILE, server_config
from phylax.store.file.database import Database

NOW = datetime(2026, 3, 2, 9, 30, tzinfo=UTC)

AGENTS = ("choir-server", "boatyard-cad", "library-1", "oakes-laptop")
ANSWERS = {
    "sign-in": f"{scenario.PASSWORD}\n",
    "client import": "name,tag\nHoy Bakery,hoy-till\n",
    "rule load": '[shop.trash]\nkeep_for = "20 days"\n',
    "person set-password": f"{scenario.PASSWORD}\n" + "another harbour night\n" * 2,
    "person add": "",
    "backup make-key": "a long word for the safe\n" * 2,
    "shop open": "another harbour night\n" * 2,
    "visit seal-note": "swordfish\n" * 2,
}
"""What is typed, or comes on standard input."""
ENDS = {
    "program everywhere go-on 1": (4,),  # four machines are too few to be halved
    "program everywhere put-back 1": (4,),  # the one machine that called found it so already
    "notice send-again 1": (4,),  # nothing was mailed
}
"""How an example ends that does not end with 0 here."""
AT_ONCE = ("installed try", "installed remove")
"""What cannot be left waiting."""
UNTIL = {"serve": "Phylax is at", "agent start": "Ctrl-C stops it"}
"""What works until it is stopped, and what it says first."""


def leaves(command: click.Command, path: str = "") -> Iterator[tuple[str, click.Command]]:
    """Every command that does something, by its words."""
    if not isinstance(command, click.Group):
        yield path.strip(), command
        return
    if command.invoke_without_command:
        yield path.strip(), command
    context = click.Context(command)
    for name in command.list_commands(context):
        inner = command.get_command(context, name)
        assert inner is not None
        yield from leaves(inner, f"{path} {name}")


def test_every_help_has_an_example_and_every_example_a_command() -> None:
    assert set(examples()) == {path for path, _ in leaves(_phylax)}
    unshown = [
        path
        for path, command in leaves(_phylax)
        if f"phylax {examples()[path][0]}" not in _help(command, path)
    ]
    assert not unshown


def _help(command: click.Command, path: str) -> str:
    return command.get_help(click.Context(command, None, path))


class World:
    """The made-up shop, its service, and the folders that examples name."""

    def __init__(self, folder: Path, service: Service) -> None:
        self.folder, self.service = folder, service
        self.usual = {
            "PHYLAX_URL": service.url, "PHYLAX_TOKEN_FILE": str(folder / "owner.token"),
            "XDG_CONFIG_HOME": str(folder / "config"), "NO_COLOR": "1",
        }  # fmt: skip
        self.of = dict(leaves(_phylax))
        self.token = (folder / "owner.token").read_text().strip()

    def words(self, line: str) -> list[str]:
        """What is typed, with the folders, address and code of this world."""
        named = line.replace("/srv/", f"{self.folder}/srv/")
        named = named.replace("http://127.0.0.1:8610", self.service.url)
        for begin, query in NUMBERS.items():
            if named.startswith(begin):
                with self.service.context.db.read() as conn:
                    (row,) = conn.execute(query)
                named = re.sub(r"\d+", str(row["number"]), named, count=1)
        if " CODE" in named:
            with Phylax(self.service.url, self.token) as shop:
                named = named.replace("CODE", shop.machines.enrolment_code("museum-kiosk").code)
        return shlex.split(named)

    def run(self, path: str, line: str) -> CompletedProcess[str]:
        words = self.words(line)
        if path == "shop make-seal-key":
            shutil.copy(self.folder / "seal-key.pem", self.folder / "srv/phylax")
        if path in UNTIL:
            return self._until(words, UNTIL[path])
        options = {name for param in self.of[path].params for name in param.opts}
        # nobody is there to be asked, and no machine calls meanwhile
        wanted = {"--yes": "--yes", "--wait": "--no-wait"}
        words += [word for name, word in wanted.items() if name in options and word not in words]
        if path in AT_ONCE:
            with self._calling("library-1"):
                return self._here(words, "")
        return self._here(words, ANSWERS.get(path, ""))

    def _here(self, words: list[str], typed: str) -> CompletedProcess[str]:
        streams = [io.TextIOWrapper(io.BytesIO(), encoding="utf-8") for _ in range(2)]
        with pytest.MonkeyPatch.context() as here:
            here.setattr(sys, "argv", ["phylax", *words])
            here.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO(typed.encode())))
            here.setattr(sys, "stdout", streams[0])
            here.setattr(sys, "stderr", streams[1])
            here.setattr(_clock, "source", self.service.context.clock)
            here.chdir(self.folder)
            for name, value in self.usual.items():
                here.setenv(name, value)
            try:
                main()
            except SystemExit as ended:
                code = ended.code
        said = []
        for stream in streams:
            stream.flush()
            said.append(stream.buffer.getvalue().decode())  # type: ignore[attr-defined]
        return CompletedProcess(words, code if isinstance(code, int) else 1, *said)

    def _until(self, words: list[str], first: str) -> CompletedProcess[str]:
        if words[0] == "serve":
            words += ["--port", str(free_port())]
        with subprocess.Popen(
            [sys.executable, "-m", "phylax", *words], stdout=subprocess.PIPE, text=True,
            stderr=subprocess.STDOUT, env=os.environ | self.usual | {"PYTHONUNBUFFERED": "1"},
        ) as child:  # fmt: skip
            assert child.stdout is not None
            stop = threading.Timer(60, child.kill)
            stop.start()
            said = ""
            for text in child.stdout:
                said += text
                if first in text:
                    break
            child.send_signal(signal.SIGTERM)
            said += child.stdout.read()
            stop.cancel()
        # services end by the signal that they were sent
        code = 0 if child.returncode == -signal.SIGTERM else child.returncode
        return CompletedProcess(words, code, said, "")

    @contextmanager
    def _calling(self, tag: str) -> Iterator[None]:
        """While a command waits for its machine."""
        is_done = threading.Event()

        def call() -> None:
            while not is_done.wait(0.2):
                commands.once(AgentHome(self.folder / "agents" / tag))

        thread = threading.Thread(target=call)
        thread.start()
        yield
        is_done.set()
        thread.join()

    def machine_calls(self, tag: str) -> None:
        """As long as it has something to do."""
        waiting = """SELECT 1 FROM runs JOIN machines m ON m.id = machine_id
                     WHERE tag = ? AND state = 'waiting'"""
        while True:
            with self.service.context.db.read() as conn:
                if conn.execute(waiting, (tag,)).fetchone() is None:
                    return
            commands.once(AgentHome(self.folder / "agents" / tag))


@pytest.fixture
def world(made: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[World]:
    # disks that answer at once
    monkeypatch.setattr(StandInMachine, "pace", lambda machine, items: None)
    shutil.copy(made / FILE, tmp_path)
    database = Database(tmp_path / FILE)
    clock = Clock(NOW)
    shop = Context(database, clock)
    with serving(shop, server_config(shop, "127.0.0.1", 0)) as service:
        (tmp_path / "owner.token").write_text((made / "owner.token").read_text())
        for tag in AGENTS:
            for kind in ("agents", "machines"):
                (tmp_path / kind).mkdir(exist_ok=True)
                subprocess.run(
                    ["cp", "-a", "--sparse=always", made / kind / tag, tmp_path / kind], check=True
                )
            home = AgentHome(tmp_path / "agents" / tag)
            config = home.config()
            moved = {"url": service.url, "standin": str(tmp_path / "machines" / tag)}
            home.save(config.model_copy(update=moved), home.key())
        _lay_files(tmp_path)
        yield World(tmp_path, service)
    database.close()


OUTPUTS = json.loads((Path(__file__).parents[2] / "docs/outputs.json").read_text("utf-8"))


def test_the_written_schema_of_outputs_is_of_these_commands() -> None:
    assert outputs.document() == OUTPUTS, "run make contract"


def wrong_data(world: World, path: str, line: str) -> list[str]:
    """What a command prints otherwise than the schema says."""
    written = OUTPUTS["commands"][path]
    words = [word for word in shlex.split(line) if word not in ("--toml",)]
    if "--format" in words:
        at = words.index("--format")
        del words[at : at + 2]
    whole = [*words]
    if "--columns" in words:
        at = words.index("--columns")
        del whole[at : at + 2]
    as_json = world.run(path, shlex.join([*whole, "--format", "json"]))
    as_csv = world.run(path, shlex.join([*whole, "--format", "csv"]))
    schema = {"$defs": OUTPUTS["$defs"], **written["json"]}
    checker = Draft202012Validator(schema, format_checker=FormatChecker())
    wrong = [
        f"{line}: {error.message[:200]}"
        for error in checker.iter_errors(json.loads(as_json.stdout))
    ]
    rows = list(csv.reader(io.StringIO(as_csv.stdout)))
    if rows[0] != written["csv"]:
        wrong.append(f"{line}: as CSV its columns are {rows[0]}")
    wrong += [f"{line}: {row}" for row in rows if len(row) != len(rows[0])]
    wrong += [
        f"{line}: {cell!r} is not data" for row in rows[1:] for cell in row if SHOWN.search(cell)
    ]
    return wrong


SHOWN = re.compile(r"█|^\d+\.\d [KMGT]iB$|^\d{4}-\d\d-\d\d \d\d:\d\d$")
"""Bars, rounded sizes and local times: for people, not for programs."""


def _lay_files(folder: Path) -> None:
    """What examples read."""
    (folder / "machines.csv").write_text("client,tag,make\nHoy Bakery,hoy-oven,Tarn\n")
    steps = '[[steps]]\nkind = "by hand"\ntitle = "Ring first"\n[[steps]]\nkind = "survey"\n'
    (folder / "ours.toml").write_text(f'name = "Ours"\n{steps}')
    (folder / "changed.toml").write_text(f'name = "Light, with a word"\n{steps}')
    for name in ("logo.png", "label.png"):
        Image.new("RGB", (64, 64), "#1f7a6d").save(folder / name)
    (folder / "srv/phylax").mkdir(parents=True)
    shutil.copy(folder / FILE, folder / "srv/phylax")
    shutil.copy(folder / FILE, folder / "srv/backup.sqlite")
    (folder / ".phylax-demo").symlink_to(folder)


ELSEWHERE = {
    "demo": "makes the whole shop, as the fixture did",
    "person make-codes": "asks for the code of an app; tests/cli does that",
}
NUMBERS = {
    "upkeep compare": "SELECT max(run_id) AS number FROM snapshots",
    "consent agree": "SELECT max(survey_id) AS number FROM survey_items WHERE category = "
    "'own-folders'",
}
"""By the beginning of an example whose number depends on what ran before: what it is here."""
CALLS = {
    **dict.fromkeys(("run", "hold", "consent", "routine", "survey"), "choir-server"),
    **dict.fromkeys(("program", "setting", "upkeep"), "boatyard-cad"),
}
"""By noun: the machine to which its commands give something to do."""
READS = re.compile(r"(?:^| )(?:list|show|preview|test)(?:-|$)|^(?:today|agenda|search)$")
"""Verbs that only read: what they print as data is held against the written schema."""


def test_every_example_works(world: World) -> None:
    # its files are copies: what was found of them before is of others
    with Phylax(world.service.url, world.token) as shop:
        shop.runs.survey(held.MACHINE)
    world.machine_calls(held.MACHINE)
    held.order(world.service.url)
    world.machine_calls(held.MACHINE)
    failed = []
    for path, lines in examples().items():
        for line in lines:
            if path in ELSEWHERE:
                continue
            ended = world.run(path, line)
            if ended.returncode not in ENDS.get(line, (0,)) or "Traceback" in ended.stderr:
                said = f"{ended.stdout[-300:]}{ended.stderr[-500:]}"
                failed.append(f"phylax {line}\n  {ended.returncode}: {said}")
            elif READS.search(path) and path in OUTPUTS["commands"]:
                failed += wrong_data(world, path, line)
            # a restart waits for people, which takes its time
            if path.split()[0] in CALLS and path != "upkeep restart":
                world.machine_calls(CALLS[path.split()[0]])
    assert not failed, "\n\n".join(failed)
