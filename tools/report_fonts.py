"""The fonts of printed reports, from the console's: two weights, each whole in one file; and which
characters the reports' fonts can show.

    npm ci --prefix console && .venv/bin/pip install fonttools brotli
    .venv/bin/python tools/report_fonts.py
"""

from __future__ import annotations

import tempfile
from pathlib import Path

import typst
from fontTools.merge import Merger
from fontTools.ttLib import TTFont
from fontTools.varLib.instancer import instantiateVariableFont

PACKAGE = Path("console/node_modules/@fontsource-variable/atkinson-hyperlegible-next")
PAPER = Path("src/phylax/service/reporting/paper")
WEIGHTS = {"regular": 400, "bold": 700}
FAMILY = "Atkinson Hyperlegible Next"
SOURCE = f"""
#set document(title: "x", date: datetime(year: 2026, month: 1, day: 1))
#set text(font: ("{FAMILY}", "Libertinus Serif", "DejaVu Sans Mono"))
#str(sys.inputs.text)
"""


def make(style: str, weight: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        parts = []
        for part in ("latin", "latin-ext"):
            name = f"atkinson-hyperlegible-next-{part}-wght-normal.woff2"
            font = instantiateVariableFont(TTFont(PACKAGE / "files" / name), {"wght": weight})
            font.flavor = None
            font["OS/2"].usWeightClass = weight
            # without the table of styles, the reader goes by weight and these names
            for table in ("STAT", "avar"):
                if table in font:
                    del font[table]
            for record in list(font["name"].names):
                if record.nameID in (16, 17, 21, 22, 25):
                    font["name"].removeNames(nameID=record.nameID)
            for number, text in ((1, FAMILY), (2, style.title()), (4, f"{FAMILY} {style.title()}"),
                                 (6, f"AtkinsonHyperlegibleNext-{style.title()}")):  # fmt: skip
                font["name"].setName(text, number, 3, 1, 0x409)
            parts.append(f"{folder}/{part}.ttf")
            font.save(parts[-1])
        Merger().merge(parts).save(PAPER / "fonts" / f"atkinson-{style}.ttf")


def shown_by(compiler: typst.Compiler, first: int, last: int) -> list[tuple[int, int]]:
    """The stretches of characters that can be shown."""
    text = "".join(map(chr, range(first, last + 1)))
    try:
        compiler.compile(
            SOURCE.encode(), format="pdf", sys_inputs={"text": text}, pdf_standards=["ua-1", "a-2a"]
        )
    except typst.TypstError:
        if first == last:
            return []
        middle = (first + last) // 2
        return shown_by(compiler, first, middle) + shown_by(compiler, middle + 1, last)
    return [(first, last)]


def main() -> None:
    for style, weight in WEIGHTS.items():
        make(style, weight)
    fonts = typst.Fonts(
        include_system_fonts=False, include_embedded_fonts=True, font_paths=[str(PAPER / "fonts")]
    )
    compiler = typst.Compiler(font_paths=fonts)
    stretches: list[tuple[int, int]] = []
    for first in (0x21, 0xA0, *range(0x100, 0x3000, 0x40), 0xFB00):
        last = {0x21: 0x7E, 0xA0: 0xFF, 0xFB00: 0xFB06}.get(first, first + 0x3F)
        for stretch in shown_by(compiler, first, last):
            if stretches and stretches[-1][1] + 1 == stretch[0]:
                stretches[-1] = (stretches[-1][0], stretch[1])
            else:
                stretches.append(stretch)
    lines = [f"{first:04X}-{last:04X}\n" for first, last in stretches]
    (PAPER / "characters.txt").write_text("".join(lines), "utf-8")


if __name__ == "__main__":
    main()
