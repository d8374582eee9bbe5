"""What is installed where: a client's machine gets what an agent needs, and that is enough."""

from __future__ import annotations

import importlib.metadata as metadata
import os
import re
import shutil
import signal
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from packaging.requirements import Requirement

from helpers import free_port
from phylax.client import Phylax
from phylax.core.runs.runs import RunState

ROOT = Path(__file__).parents[1]
DISTRIBUTION = "phylax-workshop"
ONLY_SERVICE = ("fastapi", "numpy", "uvicorn", "matplotlib", "icalendar", "aiosmtpd")


def closure(name: str, extra: str = "") -> set[str]:
    """All distributions that one needs, itself included, by their names."""
    found: set[str] = set()

    def need(requirement: Requirement) -> None:
        key = re.sub(r"[-_.]+", "-", requirement.name).lower()
        if key in found and not requirement.extras:
            return
        found.add(key)
        for text in metadata.requires(requirement.name) or ():
            inner = Requirement(text)
            extras = ("", *requirement.extras)
            if not inner.marker or any(inner.marker.evaluate({"extra": one}) for one in extras):
                need(inner)

    need(Requirement(f"{name}[{extra}]" if extra else name))
    return found


def files_of(names: set[str]) -> Iterator[tuple[Path, Path]]:
    """(where a file is, its place below site-packages) of some distributions."""
    for name in names - {DISTRIBUTION}:
        distribution = metadata.distribution(name)
        for file in distribution.files or ():
            if ".." not in file.parts and "__pycache__" not in file.parts:
                yield Path(str(distribution.locate_file(file))), Path(*file.parts)


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("wheel")
    subprocess.run(
        [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", folder],
        cwd=ROOT, check=True, capture_output=True,
    )  # fmt: skip
    (path,) = folder.glob("*.whl")
    return path


def environment(folder: Path, wheel: Path, extra: str) -> Path:
    """A Python with the wheel and what it asks for, as it is installed here; its own site-packages
    only. Its interpreter."""
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", folder], check=True)
    (site,) = folder.glob("lib/python*/site-packages")
    for source, below in files_of(closure(DISTRIBUTION, extra)):
        if source.is_file():
            (site / below).parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, site / below)
    with zipfile.ZipFile(wheel) as archive:
        archive.extractall(site)
    return folder / "bin/python"


def run(python: Path, *words: str, **more: str) -> subprocess.CompletedProcess[str]:
    clean = {key: value for key, value in os.environ.items() if not key.startswith("PYTHON")}
    return subprocess.run(
        [python, "-I", "-m", "phylax", *words], env=clean | more, capture_output=True, text=True,
        check=False, timeout=300,
    )  # fmt: skip


def test_an_agents_machine_gets_an_agent_that_works_and_nothing_of_the_service(
    wheel: Path, tmp_path: Path
) -> None:
    python = environment(tmp_path / "python", wheel, "")
    (site,) = (tmp_path / "python").glob("lib/python*/site-packages")
    assert not [name for name in ONLY_SERVICE if (site / name).exists()]
    home = {"HOME": str(tmp_path)}
    unit = run(python, "agent", "write-unit", "--data", str(tmp_path / "agent"), **home)
    assert unit.returncode == 0 and "agent start" in unit.stdout
    alone = run(python, "agent", "once", "--data", str(tmp_path / "agent"), **home)
    assert "agent enrol" in alone.stderr
    away = run(python, "--url", "http://127.0.0.1:9", "sign-in", "--help", **home)
    assert away.returncode == 0
    for words, extra in ((("serve",), "service"), (("demo", "--only-make"), "service|demo")):
        missing = run(python, *words, "--data", str(tmp_path / "x"), **home)
        assert missing.returncode == 2
        assert re.search(rf"pip install 'phylax_workshop-\S+\.whl\[({extra})\]'", missing.stderr), (
            missing.stderr
        )


def test_with_its_extra_the_wheel_serves_the_console_and_its_agents_work(
    wheel: Path, tmp_path: Path
) -> None:
    python, port = environment(tmp_path / "python", wheel, "demo"), free_port()
    (site,) = (tmp_path / "python").glob("lib/python*/site-packages")
    assert (site / "phylax/py.typed").is_file()
    words = [python, "-I", "-m", "phylax", "demo", "--data", tmp_path / "demo", "--port", str(port)]
    with subprocess.Popen(
        words, env={"HOME": str(tmp_path), "PATH": os.environ["PATH"]}, stdout=subprocess.PIPE,
        text=True,
    ) as process:  # fmt: skip
        try:
            assert process.stdout is not None
            while "Ctrl-C" not in process.stdout.readline():
                assert process.poll() is None
            page = httpx.get(f"http://127.0.0.1:{port}/").raise_for_status()
            assert "<script" in page.text
            token = (tmp_path / "demo/owner.token").read_text().strip()
            with Phylax(f"http://127.0.0.1:{port}", token) as shop:
                run = shop.runs.survey("choir-server")
                while shop.runs.get(run.id).state not in (RunState.DONE, RunState.FAILED):
                    assert process.poll() is None
                assert shop.runs.get(run.id).state is RunState.DONE
        finally:
            process.send_signal(signal.SIGINT)


def test_without_the_console_there_is_no_wheel(tmp_path: Path) -> None:
    for part in ("pyproject.toml", "README.md", "LICENSE", "tools/wheel_hook.py"):
        (tmp_path / part).parent.mkdir(exist_ok=True)
        shutil.copy(ROOT / part, tmp_path / part)
    (tmp_path / "src/phylax").mkdir(parents=True)
    (tmp_path / "src/phylax/__init__.py").touch()
    built = subprocess.run(
        [sys.executable, "-m", "hatchling", "build", "-t", "wheel"],
        cwd=tmp_path, check=False, capture_output=True, text=True,
    )  # fmt: skip
    assert built.returncode and "the console is not built" in built.stderr + built.stdout


INSTALLS = re.compile(r"\b(?:pip|pipx|uv)3?\s+(?:install|run|tool install)\s+([^`|\n]+)")
"""What a text tells somebody to install, to the end of its line."""
OURS = re.compile(r"phylax", re.IGNORECASE)
A_FILE = re.compile(r"phylax_workshop-\S+\.whl\b|--editable|\.\[|-e \.")


def texts() -> Iterator[tuple[str, str]]:
    """Each text of the project that somebody reads or runs, with where it stands."""
    listed = subprocess.run(
        ["git", "ls-files", "--cached", "--others", "--exclude-standard", "-z"],
        cwd=ROOT, check=True, capture_output=True, text=True,
    )  # fmt: skip
    for name in listed.stdout.split("\0"):
        path = ROOT / name
        if name and path.suffix not in (".png", ".woff2", ".pdf") and path.is_file():
            yield name, path.read_text("utf-8", errors="replace")


def test_no_text_tells_anybody_to_install_us_from_an_index() -> None:
    """Nothing of ours is there, and \"phylax\" is another program."""
    told = []
    for name, text in texts():
        if name == "tests/test_install.py" or name == "CHANGELOG.md":
            continue
        for match in INSTALLS.finditer(text):
            words = match[1].strip().rstrip(".,;")
            if OURS.search(words) and not A_FILE.search(words):
                told.append(f"{name}: {match[0].strip()}")
    assert told == []
    # what is told is what is built
    readme = (ROOT / "README.md").read_text("utf-8")
    assert f"dist/phylax_workshop-{metadata.version(DISTRIBUTION)}-py3-none-any.whl" in readme


def test_the_built_wheel_has_the_name_that_is_told(wheel: Path) -> None:
    version = metadata.version(DISTRIBUTION)
    assert wheel.name == f"phylax_workshop-{version}-py3-none-any.whl"
    with zipfile.ZipFile(wheel) as archive:
        tops = {name.partition("/")[0] for name in archive.namelist()}
    assert tops == {"phylax", f"phylax_workshop-{version}.dist-info"}
