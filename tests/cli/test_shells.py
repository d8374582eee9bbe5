"""Completion in real shells, in a terminal: bash, zsh and fish under tmux."""

from __future__ import annotations

import shlex
import subprocess
import sys
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from conftest import Service
from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit

SHELLS = {
    "bash": ("bash --norc --noprofile -i", 'eval "$(phylax completion bash)"'),
    "zsh": ("zsh -f -i", 'autoload -Uz compinit; compinit -u; eval "$(phylax completion zsh)"'),
    "fish": ("fish --no-config -i", "phylax completion fish | source"),
}
ENOUGH = 90.0
"""Seconds in which a terminal has shown what is waited for, on the slowest of machines."""


class Terminal:
    """A shell in tmux, with a prompt of our own."""

    def __init__(self, shell: str, env: dict[str, str], folder: Path) -> None:
        self._server = f"phylax-{uuid.uuid4().hex[:12]}"
        sets = [f"{name}={value}" for name, value in env.items()]
        self._tmux("-f", "/dev/null", "new-session", "-d", "-x", "150", "-y", "40", "-c",
                   str(folder), "env", "-i", *sets, *shlex.split(shell))  # fmt: skip

    def _tmux(self, *words: str) -> str:
        run = subprocess.run(
            ["tmux", "-L", self._server, *words], capture_output=True, text=True, check=True
        )
        return run.stdout

    def type(self, text: str) -> None:
        self._tmux("send-keys", "-l", text)

    def press(self, *keys: str) -> None:
        self._tmux("send-keys", *keys)

    def wait_for(self, is_there: Callable[[str], bool], what: str) -> str:
        """The screen as soon as it shows something."""
        deadline = time.monotonic() + ENOUGH
        while time.monotonic() < deadline:
            screen = self._tmux("capture-pane", "-p")
            if is_there(screen):
                return screen
            time.sleep(0.1)
        raise AssertionError(f"never showed {what}:\n{self._tmux('capture-pane', '-p')}")

    def close(self) -> None:
        self._tmux("kill-server")


@contextmanager
def terminal(shell: str, service: Service, folder: Path) -> Iterator[Terminal]:
    bin_folder = str(Path(sys.executable).parent)
    with service.as_("ines") as signed_in:
        token = signed_in.secret or ""
    env = {
        "PATH": f"{bin_folder}:/usr/bin:/bin", "HOME": str(folder), "TERM": "screen",
        "LANG": "C.UTF-8", "PHYLAX_URL": service.url, "PHYLAX_TOKEN": token, "PS1": "$ ",
    }  # fmt: skip
    start, load = SHELLS[shell]
    opened = Terminal(start, env, folder)
    try:
        opened.type(f"{load}; echo loaded-$((40 + 2))" if shell != "fish" else
                    f"{load}; echo loaded-(math 40 + 2)")  # fmt: skip
        opened.press("Enter")
        opened.wait_for(lambda screen: "loaded-42" in screen, "that completion is loaded")
        opened.press("C-l")
        yield opened
    finally:
        opened.close()


@pytest.mark.parametrize("shell", SHELLS)
@pytest.mark.parametrize(
    ("typed", "completed"),
    [
        ("phylax mach", "phylax machine"),
        ("phylax machine sh", "phylax machine show"),
        ("phylax machine show ferry-d", "phylax machine show ferry-desk"),
        ("phylax survey show pott", "phylax survey show pottery-pc"),
        ("phylax rule show --machine-no", ""),
        ("phylax catalogue show user-t", "phylax catalogue show user-temp"),
    ],
)
def test_a_shell_completes(
    service: Service, owner: Phylax, machine: Machine, tmp_path: Path, shell: str, typed: str,
    completed: str,
) -> None:  # fmt: skip
    client = owner.clients.add(ClientEdit(name="Tidewrack Pottery"))
    owner.machines.add(MachineEdit(tag="pottery-pc", client_id=client.id, system="linux"))
    with terminal(shell, service, tmp_path) as opened:
        opened.type(typed)
        opened.press("Tab")
        if completed:
            opened.wait_for(lambda screen: completed in screen, repr(completed))
        else:
            # nothing fits, and nothing is printed into the line
            opened.type(" # end")
            screen = opened.wait_for(lambda screen: "# end" in screen, "what was typed")
            assert "Traceback" not in screen and typed in screen


@pytest.mark.parametrize("shell", SHELLS)
def test_nothing_in_a_completed_name_is_carried_out(
    service: Service, owner: Phylax, tmp_path: Path, shell: str
) -> None:
    """Names come from people, and from lists that were taken in."""
    owner.clients.add(ClientEdit(name="Quarry $(touch pwned) `touch pwned`; touch pwned"))
    with terminal(shell, service, tmp_path) as opened:
        opened.type("phylax client show Quar")
        opened.press("Tab")
        opened.wait_for(lambda screen: "pwned" in screen, "the name")
        opened.press("Enter")
        opened.wait_for(lambda screen: "machines" in screen, "what is known of the client")
    assert not (tmp_path / "pwned").exists()
