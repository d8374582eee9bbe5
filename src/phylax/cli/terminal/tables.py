"""Tables in a terminal: cells side by side where there is room, long ones on lines of their own."""

from __future__ import annotations

from collections.abc import Sequence

from rich.cells import cell_len
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

Cell = str | Text

_INDENT = 4
_GAP = 2
_LEAST = 4
"""No column is made narrower than that."""
_SHORT = 12
"""Cells up to this wide stay beside the others."""


class Layout:
    """Which columns stand side by side, and which below, over the whole width."""

    def __init__(
        self,
        headings: Sequence[str],
        rows: Sequence[Sequence[Cell]],
        *,
        right: Sequence[bool],
        below: Sequence[bool],
        room: int,
    ) -> None:
        self.headings, self.rows, self.right = headings, rows, right
        self.below = [n for n, is_below in enumerate(below) if is_below]
        beside = [n for n, is_below in enumerate(below) if not is_below]
        widths = {n: _widest([headings[n], *(row[n] for row in rows)]) for n in beside}
        self.labelled: list[int] = []
        while sum(widths[n] + _GAP for n in beside) - _GAP > room:
            # what stands first names the thing, and stays
            long = [n for n in beside[2:] if not right[n] and widths[n] > _SHORT]
            if not long:
                break
            moved = max(long, key=widths.__getitem__)
            beside.remove(moved)
            self.labelled.append(moved)
        self.beside = beside
        self.labelled.sort()
        cells = [[headings[n], *(row[n] for row in rows)] for n in beside]
        self.widths = fitted(cells, room, gap=_GAP)

    def print(self, console: Console, title: str = "") -> None:
        if title:
            console.print(title)
        heads: list[Cell] = [Text(self.headings[n], style="dim") for n in self.beside]
        console.print(self._line(heads))
        # where rows have lines of their own, what names them stands out
        style = "bold" if self.below or self.labelled else None
        for row in self.rows:
            console.print(self._line([row[n] for n in self.beside]), style=style)
            for n in self.labelled:
                if str(row[n]).strip("–"):
                    label = Text(f"{self.headings[n]}: ", style="dim")
                    _print_below(console, Text.assemble(label, row[n]))
            for n in self.below:
                if str(row[n]):
                    _print_below(console, row[n])

    def _line(self, cells: Sequence[Cell]) -> Table:
        grid = Table.grid(padding=(0, _GAP, 0, 0))
        for n, width in zip(self.beside, self.widths, strict=True):
            grid.add_column(
                justify="right" if self.right[n] else "left", overflow="fold", width=width
            )
        grid.add_row(*cells)
        return grid


def _print_below(console: Console, words: Cell) -> None:
    console.print(Padding(words, (0, 0, 0, _INDENT), expand=False))


def _widest(cells: Sequence[Cell]) -> int:
    return max(cell_len(line) for cell in cells for line in str(cell).split("\n"))


def fitted(columns: Sequence[Sequence[Cell]], room: int, *, gap: int) -> list[int]:
    """So wide that all fits; where there is no room for it, the widest columns are broken between
    words, and where that is not enough, in words."""
    widths = [_widest(cells) for cells in columns]
    words = [
        max((cell_len(word) for cell in cells for word in str(cell).split()), default=1)
        for cells in columns
    ]
    # what stands first names the thing: it is broken last
    for first, least in ((0, words), (2, [_LEAST] * len(words)), (0, [_LEAST] * len(words))):
        while sum(widths) + gap * len(widths) > room:
            spare = [n for n in range(first, len(widths)) if widths[n] > least[n]]
            if not spare:
                break
            widths[max(spare, key=widths.__getitem__)] -= 1
    return widths


def print_unfolded(
    console: Console,
    headings: Sequence[str],
    rows: Sequence[Sequence[Cell]],
    *,
    right: Sequence[bool],
) -> None:
    """One line for each row, however long, for pipes and scrolling."""
    widths = [
        max(cell_len(_one_line(cell)) for cell in (heading, *(row[n] for row in rows)))
        for n, heading in enumerate(headings)
    ]
    for number, line in enumerate([headings, *rows]):
        text = Text()
        for n, cell in enumerate(line):
            words = cell.copy() if isinstance(cell, Text) else Text(cell)
            if "\n" in words.plain:
                words = Text(_one_line(words))
            space = " " * (widths[n] - cell_len(words.plain))
            is_last = n == len(line) - 1
            text.append_text(
                Text.assemble(space, words)
                if right[n]
                else Text.assemble(words, "" if is_last else space)
            )
            text.append("" if is_last else " " * _GAP)
        text.rstrip()
        console.print(text, style=None if number else "dim", soft_wrap=True)


def _one_line(cell: Cell) -> str:
    return " ".join(str(cell).split("\n"))
