"""What is installed where: a client's machine gets what an agent needs, and that is enough."""

from __future__ import annotations

import importlib.metadata as metadata
import os
import re
import shutil
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from packaging.requirements import Requirement

ROOT = Path(__file__).parents[1]
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
    for name in names - {"phylax"}:
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
    for source, below in files_of(closure("phylax", extra)):
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
    unit = run(python, "agent", "unit", "--data", str(tmp_path / "agent"), **home)
    assert unit.returncode == 0 and "agent start" in unit.stdout
    alone = run(python, "agent", "once", "--data", str(tmp_path / "agent"), **home)
    assert "agent enrol" in alone.stderr
    away = run(python, "--url", "http://127.0.0.1:9", "sign-in", "--help", **home)
    assert away.returncode == 0
    for words, extra in ((("serve",), "service"), (("demo", "--only-make"), "service|demo")):
        missing = run(python, *words, "--data", str(tmp_path / "x"), **home)
        assert missing.returncode == 2
        assert re.search(rf"pip install 'phylax\[({extra})\]'", missing.stderr), missing.stderr


def test_with_its_extra_the_wheel_opens_a_shop_with_the_console_in_it(
    wheel: Path, tmp_path: Path
) -> None:
    python = environment(tmp_path / "python", wheel, "demo")
    made = run(python, "demo", "--only-make", "--data", str(tmp_path / "demo"), HOME=str(tmp_path))
    assert made.returncode == 0, made.stderr
    (site,) = (tmp_path / "python").glob("lib/python*/site-packages")
    assert (site / "phylax/service/console/index.html").is_file()
    assert (site / "phylax/py.typed").is_file()


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
