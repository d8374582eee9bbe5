"""The head of the shop's papers: what may be in its mark, and what is refused."""

from __future__ import annotations

import io

import pytest
from PIL import Image

from conftest import Service
from phylax.client import ChangedMeanwhileError, NotAllowedError, Phylax, RefusedError
from phylax.core.clients.shop import Machine
from phylax.core.reporting.request import ReportRequest
from phylax.service.reporting.marks import checked
from pictures import bomb, picture

SVG = '<svg xmlns="http://www.w3.org/2000/svg" width="40" height="16">{}</svg>'
XLINK = '<svg xmlns="http://www.w3.org/2000/svg" xmlns:x="http://www.w3.org/1999/xlink">{}</svg>'


def test_the_shops_papers_have_a_head_and_a_mark(owner: Phylax, machine: Machine) -> None:
    blank = owner.reports.letterhead()
    assert (blank.head, blank.mark, blank.version) == ("", "", 0)
    now = owner.reports.change_letterhead(
        blank, head="Quayside Repairs\n1 Harbour Road", foot="Open Monday to Friday", language="de"
    )
    mark = SVG.format('<circle cx="8" cy="8" r="7" fill="url(#g)"/>').encode()
    now = owner.reports.put_mark(now, mark)
    assert (now.head.split("\n")[0], now.mark, now.version) == ("Quayside Repairs", "svg", 2)
    made = owner.reports.make(ReportRequest(machine_id=machine.id))
    assert b"%PDF" in owner.reports.pdf(made.id)
    now = owner.reports.put_mark(now, picture("PNG"))
    assert owner.reports.letterhead().mark == "png"
    assert owner.reports.pdf(owner.reports.make(ReportRequest(machine_id=machine.id)).id)
    with pytest.raises(ChangedMeanwhileError):
        owner.reports.change_letterhead(blank, foot="x")
    owner.reports.take_mark_away(now)
    assert owner.reports.letterhead().mark == ""


@pytest.mark.parametrize(
    "drawing",
    [
        SVG.format("<script>alert(1)</script>"),
        SVG.format('<rect onclick="alert(1)"/>'),
        SVG.format('<a href="https://elsewhere.example"><rect/></a>'),
        SVG.format('<image href="https://elsewhere.example/x.png"/>'),
        SVG.format('<image href="data:image/png;base64,AAAA"/>'),
        SVG.format('<rect fill="url(https://elsewhere.example/x)"/>'),
        SVG.format("<rect style=\"fill: url( 'file:///etc/passwd')\"/>"),
        SVG.format("<style>@import 'https://elsewhere.example/x.css';</style>"),
        SVG.format("<foreignObject><b>x</b></foreignObject>"),
        SVG.format('<animate attributeName="href"/>'),
        XLINK.format('<use x:href="other.svg#a"/>'),
        XLINK.format('<linearGradient x:href="file:///etc/passwd"/>'),
        '<!DOCTYPE svg [<!ENTITY a "b">]>' + SVG.format("&a;"),
        '<!DOCTYPE svg SYSTEM "file:///etc/passwd">' + SVG.format(""),
        SVG.format("<g/>" * 5001),
        "<html></html>",
        "<svg/>",
        "no drawing",
        "%PDF-1.7",
        "GIF89a/*<html>",
    ],
)
def test_what_runs_fetches_or_leads_elsewhere_is_refused(drawing: str) -> None:
    with pytest.raises(ValueError, match="at most"):
        checked(drawing.encode())


def test_a_picture_is_drawn_anew_and_a_bomb_is_refused() -> None:
    exif = Image.Exif()
    exif[0x010E] = "SECRETPLACE"
    kind, kept = checked(picture("JPEG", (3000, 1000), exif=exif, comment=b"SECRETWORD"))
    assert kind == "png" and b"SECRET" not in kept
    with Image.open(io.BytesIO(kept)) as opened:
        assert opened.size == (1200, 400) and not opened.info and not opened.getexif()
    kind, kept = checked(picture("PNG") + b"<script>alert(1)</script>PK\x03\x04")
    assert b"script" not in kept

    too_much = bomb()
    assert len(too_much) < 200_000
    for wrong in (too_much, b"\x89PNG\r\n\x1a\n", picture("PNG")[:40], b"\xff\xd8\xff" + b"x" * 99):
        with pytest.raises(ValueError, match="cannot be read"):
            checked(wrong)
    for wrong in (b"", b"x" * (512 * 1024 + 1)):
        with pytest.raises(ValueError, match="empty, or larger"):
            checked(wrong)


def test_only_the_owner_changes_it_and_what_is_refused_changes_nothing(
    owner: Phylax, service: Service
) -> None:
    blank = owner.reports.letterhead()
    with service.as_("wren") as wren:
        with pytest.raises(NotAllowedError):
            wren.reports.change_letterhead(blank, head="x")
        with pytest.raises(NotAllowedError):
            wren.reports.put_mark(blank, picture("PNG"))
    with pytest.raises(RefusedError, match="without links and scripts"):
        owner.reports.put_mark(blank, SVG.format("<script/>").encode())
    assert owner.reports.letterhead() == blank
