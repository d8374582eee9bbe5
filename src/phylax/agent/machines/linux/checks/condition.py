"""What is only read on a Linux machine, never changed from afar: told as findings or notes."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime, timedelta

import psutil

from phylax.agent.machines.linux.checks.disk_health import disks_below
from phylax.agent.machines.linux.checks.file_system import block_name
from phylax.agent.machines.linux.kernel_files import names_in, number_in, text_in
from phylax.agent.machines.linux.mounts import Mount
from phylax.core.checks.findings import Checked, Finding, Severity, looked

_SOON = timedelta(days=120)
_WORN = 60
_HOT = 95.0
_LOCAL = ("localhost", "ip6-", "broadcasthost")


def condition(mounts: Sequence[Mount], root: str = "/") -> Checked:
    """All of it; what cannot be read is left out or said."""
    started = datetime.now(UTC)
    findings = [
        *_support(root, started.date()),
        *_hosts(root),
        *_proxy(root),
        *_name_servers(root),
        *_clock(root),
        *_encryption(mounts, os.path.join(root, "sys")),
        *_battery(root),
        *_lets_in(root),
        *_heat(root),
        Finding(
            severity=Severity.NOTE,
            what="Whether there is a backup cannot be read on this system: ask",
        ),
    ]
    return looked("condition", "", started, findings)


def _support(root: str, today: date) -> Iterator[Finding]:
    """By os-release(5), SUPPORT_END."""
    fields = dict(
        line.partition("=")[::2]
        for line in text_in(os.path.join(root, "etc"), "os-release").splitlines()
    )
    try:
        ends = date.fromisoformat(fields.get("SUPPORT_END", "").strip("\"'"))
    except ValueError:
        return
    name = fields.get("PRETTY_NAME", "The system").strip("\"'")[:100]
    if ends < today:
        what = f"{name} gets no updates any more: plan a newer one"
        yield Finding(severity=Severity.WARNING, what=what, evidence=f"support ended {ends}")
    elif ends < today + _SOON:
        what = f"{name} gets updates for a few more weeks only"
        yield Finding(severity=Severity.NOTE, what=what, evidence=f"support ends {ends}")


def _hosts(root: str) -> Iterator[Finding]:
    own = {text_in(os.path.join(root, "etc"), "hostname").partition(".")[0]}
    entries = []
    for line in text_in(os.path.join(root, "etc"), "hosts").splitlines():
        address, *names = line.partition("#")[0].split() or [""]
        others = [n for n in names if not n.startswith(_LOCAL) and n.partition(".")[0] not in own]
        if others:
            entries.append(f"{address} {others[0]}")
    if entries:
        what = f"{len(entries)} names of other machines are written down by hand"
        evidence = "; ".join(entries[:5])[:400]
        yield Finding(severity=Severity.NOTE, what=what, where="/etc/hosts", evidence=evidence)


def _proxy(root: str) -> Iterator[Finding]:
    for line in text_in(os.path.join(root, "etc"), "environment").splitlines():
        name, _, value = line.partition("=")
        if name.strip().lower() in ("http_proxy", "https_proxy", "all_proxy") and value.strip():
            what = "All that is fetched goes through a proxy"
            # what signs in there is nobody else's
            shown = value.strip("\"' ").rpartition("@")[2][:200]
            yield Finding(severity=Severity.NOTE, what=what, where="/etc/environment",
                          evidence=shown)  # fmt: skip
            return


def _name_servers(root: str) -> Iterator[Finding]:
    servers = [
        line.split()[1]
        for line in text_in(os.path.join(root, "etc"), "resolv.conf").splitlines()
        if line.startswith("nameserver ") and len(line.split()) > 1
    ]
    if servers:
        evidence = ", ".join(servers[:5])[:200]
        yield Finding(severity=Severity.NOTE, what="Names are asked of", evidence=evidence)


def _clock(root: str) -> Iterator[Finding]:
    folder = os.path.join(root, "run/systemd/timesync")
    if os.path.isdir(folder) and not os.path.exists(os.path.join(folder, "synchronized")):
        what = "The clock is not kept by any time server"
        yield Finding(severity=Severity.WARNING, what=what, evidence=folder)


def _encryption(mounts: Sequence[Mount], sys: str) -> Iterator[Finding]:
    block = os.path.join(sys, "class/block")
    for mount in mounts:
        name = block_name(mount, sys)
        if not disks_below(block, name):
            continue
        if _is_encrypted(block, name):
            what = "Encrypted: make sure that the client knows where the key is"
        else:
            what = "Not encrypted: whoever has the disk can read it"
        yield Finding(severity=Severity.NOTE, what=what, where=mount.path)


def _is_encrypted(block: str, name: str) -> bool:
    if text_in(os.path.join(block, name, "dm"), "uuid").startswith("CRYPT-"):
        return True
    below = names_in(os.path.join(block, name, "slaves"))
    return bool(below) and all(_is_encrypted(block, inner) for inner in below)


def _battery(root: str) -> Iterator[Finding]:
    folder = os.path.join(root, "sys/class/power_supply")
    for name in names_in(folder):
        at = os.path.join(folder, name)
        for what in ("energy", "charge"):
            full, new = number_in(at, f"{what}_full"), number_in(at, f"{what}_full_design")
            if full and new:
                share = 100 * full // new
                serious = share < _WORN
                words = "is worn: it holds" if serious else "holds"
                yield Finding(
                    severity=Severity.WARNING if serious else Severity.NOTE,
                    what=f"The battery {words} {share} % of what it held when it was new",
                    where=name,
                    evidence=f"{full} of {new}",
                )
                break


def _lets_in(root: str) -> Iterator[Finding]:
    """Programs that take calls from elsewhere; of this system alone, not of another root."""
    if root != "/":
        return
    try:
        listening = psutil.net_connections("tcp")
    except (OSError, psutil.Error):
        return
    ports: dict[str, set[int]] = {}
    for connection in listening:
        address = connection.laddr.ip if connection.laddr else ""
        if connection.status != psutil.CONN_LISTEN or address.startswith(("127.", "::1")):
            continue
        try:
            name = psutil.Process(connection.pid).name() if connection.pid else "somebody"
        except psutil.Error:
            name = "somebody"
        if connection.laddr:
            ports.setdefault(name, set()).add(connection.laddr.port)
    if ports:
        told = "; ".join(
            f"{name} on {', '.join(map(str, sorted(numbers)[:5]))}"
            for name, numbers in sorted(ports.items())[:10]
        )
        what = "Programs that others can reach from elsewhere"
        yield Finding(severity=Severity.NOTE, what=what, evidence=told[:400])


def _heat(root: str) -> Iterator[Finding]:
    folder = os.path.join(root, "sys/class/thermal")
    degrees = [
        value / 1000
        for name in names_in(folder)
        if name.startswith("thermal_zone")
        and (value := number_in(os.path.join(folder, name), "temp")) is not None
    ]
    if degrees and max(degrees) >= _HOT:
        what = f"It is {max(degrees):.0f} °C hot inside: look at fans and dust"
        yield Finding(severity=Severity.WARNING, what=what, evidence=folder)
