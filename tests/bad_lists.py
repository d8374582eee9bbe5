"""A list of machines as it was kept by hand for years, and what should become of each line."""

from __future__ import annotations

from random import Random
from typing import NamedTuple

from phylax.core.clients.importing.request import LineStatus

HEADING = ("Nr.", "Kunde", "Telefon", "Rechner", "Betriebssystem", "Seriennr.", "RAM", "Baujahr",
           "Bemerkung", "Farbe")  # fmt: skip
_NAMES = ("Möwen", "Skerry", "Kelpie", "Gannet", "Örtel", "Tidewrack", "Marram", "Selkie")
_KINDS = ("Werft", "Praxis", "Schule", "Büro", "Töpferei")
_SYSTEMS = ("Windows 10 Pro", "win11", "Ubuntu 22.04", "macOS 14")


class BadList(NamedTuple):
    """The list as text, and the fate of each of its lines by number."""

    text: str
    counts: dict[int, LineStatus]
    clients: int
    tags: set[str]
    """Of machines whose tags the list says."""


def bad_list(seed: int = 7) -> BadList:
    """300 machines of 40 clients, with all that goes wrong in such a list."""
    random = Random(seed)
    clients = [f"{name} {kind}" for name in _NAMES for kind in _KINDS]
    lines = [";".join(HEADING)]
    counts: dict[int, LineStatus] = {}
    tags: set[str] = set()

    def add(status: LineStatus, *cells: str) -> None:
        counts[sum(line.count("\n") + 1 for line in lines) + 1] = status
        lines.append(";".join(cells))

    for number in range(1, 301):
        client = clients[number % 40]
        spaced = f"  {client.replace(' ', '   ')}\N{NO-BREAK SPACE}" if number % 9 == 0 else client
        tag, serial = f"pc-{number}", f"SN{number:06}"
        memory = random.choice(("8", "7,8 GB", "16 GB", "4096 MB", "16,0"))
        year = random.choice(("2019", "03.05.2021", "2020-11-02"))
        system = random.choice(_SYSTEMS)
        plain = (str(number), spaced, "0555 / 12", tag, system, serial, memory, year, "", "rot")
        match number % 30:
            case 1:
                add(LineStatus.REFUSED, *plain[:3], '=A2&"-1"', *plain[4:])
            case 2:
                add(LineStatus.REFUSED, *plain[:3], '"' + tag, *plain[4:])
            case 3:
                add(LineStatus.ADDED, *plain[:3], "", *plain[4:])
            case 4:
                add(LineStatus.REFUSED, "", *plain[1:3], "", system, "Default string", *plain[6:])
            case 5:
                add(LineStatus.ADDED, *plain[:5], "To be filled by O.E.M.", *plain[6:])
                tags.add(tag)
            case 6:
                add(LineStatus.ADDED, *plain[:8], '"links; das ""alte""\nzweite Zeile"', "")
                tags.add(tag)
            case 7:
                add(LineStatus.ADDED, *plain)
                add(LineStatus.DOUBLE, *plain)
                tags.add(tag)
            case 8:
                add(LineStatus.ADDED, *plain)
                add(
                    LineStatus.DOUBLE,
                    "",
                    client.upper(),
                    "0555",
                    tag.upper(),
                    "",
                    serial,
                    *[""] * 4,
                )
                tags.add(tag)
            case 9:
                add(LineStatus.REFUSED, *plain[:4], "", *plain[5:])
            case 10:
                add(LineStatus.REFUSED, *plain, "eine", "Zelle zu viel")
            case 11:
                add(LineStatus.REFUSED, plain[0], "", *plain[2:])
            case 12:
                add(LineStatus.ADDED, *plain[:5], "1,23457E+11", "viel", "neu", *plain[8:])
                tags.add(tag)
            case 13:
                lines.append(";" * 9)
                add(LineStatus.ADDED, *plain)
                tags.add(tag)
            case _:
                add(LineStatus.ADDED, *plain)
                tags.add(tag)
    return BadList("\n".join(lines) + "\n", counts, len(clients), tags)
