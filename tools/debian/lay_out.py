"""Lays out a Debian root with its own system manager, for tests to boot: `lay_out.py FOLDER`.

In FOLDER/root is the system with the agent's libraries, in the versions of constraints.txt; tests
boot a copy of it and lay the product's own source over it.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[2]
SUITE, PYTHON = "bookworm", "3.11"
PACKAGES = (
    "systemd", "systemd-sysv", "dbus", "python3", "apt-utils", "e2fsprogs", "util-linux",
    "smartmontools",
)  # fmt: skip
NEEDED = (
    "click", "httpx", "jeepney", "pathspec", "platformdirs", "psutil", "pydantic", "rich",
    "tomli-w", "tzdata",
)  # fmt: skip
LIBRARIES = f"usr/local/lib/python{PYTHON}/dist-packages"


def main() -> None:
    folder = Path(sys.argv[1]).resolve()
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    root = folder / "root"
    include = ",".join(PACKAGES)
    subprocess.run(
        ["mmdebstrap", "--quiet", "--variant=minbase", f"--include={include}", SUITE, root],
        check=True,
    )
    subprocess.run(
        [sys.executable, "-m", "pip", "--quiet", "--disable-pip-version-check", "install",
         "--target", root / LIBRARIES, "--platform", "manylinux2014_x86_64",
         "--platform", "manylinux_2_28_x86_64", "--python-version", PYTHON,
         "--only-binary=:all:", "--constraint", ROOT / "constraints.txt", *NEEDED],
        check=True,
    )  # fmt: skip
    # what a test needs is in the root already: nothing is fetched while tests run
    (root / "etc/apt/sources.list").write_text("", encoding="ascii")


if __name__ == "__main__":
    main()
