"""Small Linux trees with units and entries, and what they look like, exactly."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from hypothesis import strategies as st

SERVICE = """[Unit]
Description=Helper {name}
{unit}
[Service]
ExecStart=/opt/{name}/run --quiet
{service}
[Install]
WantedBy={wanted}
{install}
"""


def add_file(root: Path, path: str, text: str, mode: int = 0o644) -> Path:
    file = root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(text, encoding="utf-8")
    file.chmod(mode)
    return file


def add_link(root: Path, path: str, target: str) -> None:
    link = root / path
    link.parent.mkdir(parents=True, exist_ok=True)
    link.symlink_to(target)


def add_service(
    root: Path, name: str, *, on: bool = True, unit: str = "", service: str = "",
    install: str = "", wanted: str = "multi-user.target", where: str = "usr/lib/systemd/system",
) -> None:  # fmt: skip
    """A service that a package brought, with its program's file."""
    add_file(
        root, f"{where}/{name}.service",
        SERVICE.format(name=name, unit=unit, service=service, install=install, wanted=wanted),
    )  # fmt: skip
    add_file(root, f"opt/{name}/run", f"#!/bin/sh\n# {name}\n", 0o755)
    if on:
        add_link(
            root, f"etc/systemd/system/{wanted}.wants/{name}.service", f"/{where}/{name}.service"
        )


def entry(name: str = "Helper", run: str = "/bin/true", **more: str) -> str:
    says = {"Type": "Application", "Name": name, "Exec": run, **more}
    return "[Desktop Entry]\n" + "".join(f"{k.replace('_', '-')}={v}\n" for k, v in says.items())


def picture(root: Path) -> dict[str, tuple[object, ...]]:
    """Everything below a folder: kind, mode, and bytes or target."""
    seen: dict[str, tuple[object, ...]] = {}
    for folder, folders, files in os.walk(root):
        for name in [*folders, *files]:
            path = Path(folder, name)
            st_ = path.lstat()
            where = str(path.relative_to(root))
            if stat.S_ISLNK(st_.st_mode):
                seen[where] = ("link", os.readlink(path))
            elif stat.S_ISREG(st_.st_mode):
                owner = (st_.st_uid, st_.st_gid)
                seen[where] = ("file", stat.S_IMODE(st_.st_mode), owner, path.read_bytes())
            else:
                seen[where] = ("other", stat.S_IFMT(st_.st_mode), stat.S_IMODE(st_.st_mode))
    return seen


names = st.sampled_from(["scan", "cloud", "chat", "player"])


@st.composite
def units(draw: st.DrawFn) -> list[tuple[str, str, bool]]:
    """Unit files as path, text, whether it is a link: services, their timers and sockets, on, off
    and barred, with aliases and links that the administrator made."""
    laid: dict[str, tuple[str, bool]] = {}
    for name in draw(st.lists(names, unique=True, min_size=1, max_size=3)):
        alias = draw(st.sampled_from(["", f"Alias={name}-too.service"]))
        wanted = draw(st.sampled_from(["multi-user.target", "graphical.target"]))
        where = "usr/lib/systemd/system"
        laid[f"{where}/{name}.service"] = (
            SERVICE.format(name=name, unit="", service="", install=alias, wanted=wanted), False,
        )  # fmt: skip
        laid[f"opt/{name}/run"] = ("#!/bin/sh\n", False)
        kind = draw(st.sampled_from(["on", "off", "vendor", "barred", "other target"]))
        if kind == "barred":
            laid[f"etc/systemd/system/{name}.service"] = ("/dev/null", True)
        elif kind == "vendor":
            laid[f"{where}/multi-user.target.wants/{name}.service"] = (f"../{name}.service", True)
        elif kind != "off":
            target = wanted if kind == "on" else "rescue-too.target"
            laid[f"etc/systemd/system/{target}.wants/{name}.service"] = (
                f"/{where}/{name}.service", True,
            )  # fmt: skip
            if alias and kind == "on":
                laid[f"etc/systemd/system/{name}-too.service"] = (f"/{where}/{name}.service", True)
        if draw(st.booleans()):
            laid[f"{where}/{name}.timer"] = (
                "[Timer]\nOnCalendar=daily\n[Install]\nWantedBy=timers.target\n", False,
            )  # fmt: skip
            if draw(st.booleans()):
                laid[f"etc/systemd/system/timers.target.wants/{name}.timer"] = (
                    f"/{where}/{name}.timer", True,
                )  # fmt: skip
        if draw(st.booleans()):
            laid[f"{where}/{name}.socket"] = (
                f"[Socket]\nListenStream=/run/{name}\n[Install]\nWantedBy=sockets.target\n", False,
            )  # fmt: skip
            if draw(st.booleans()):
                laid[f"etc/systemd/system/sockets.target.wants/{name}.socket"] = (
                    f"/{where}/{name}.socket", True,
                )  # fmt: skip
    return [(path, text, is_link) for path, (text, is_link) in laid.items()]


def lay(root: Path, laid: list[tuple[str, str, bool]]) -> None:
    for path, text, is_link in laid:
        if is_link:
            add_link(root, path, text)
        else:
            add_file(root, path, text)
