"""Pictures and PDFs of entries: what is kept of them, what is refused, and that they are proved."""

from __future__ import annotations

import io

import httpx
import pytest
from PIL import Image

from conftest import Service
from phylax.client import NotFoundError, Phylax, RefusedError
from phylax.core.clients.shop import Machine
from phylax.core.record.attachments import MOST_BYTES
from phylax.service.context.context import Context
from pictures import bomb, picture

PDF = b"%PDF-1.7\n1 0 obj <</S /JavaScript>> endobj\n"


def with_place() -> bytes:
    exif = Image.Exif()
    exif[0x010F] = "SECRETMAKER"
    exif.get_ifd(0x8825)[2] = (53.0, 20.0, 6.0)
    return picture("JPEG", exif=exif, comment=b"SECRETWORD") + b"<script>SECRETTAIL</script>"


def test_a_picture_belongs_to_its_entry_without_what_else_it_carried(
    owner: Phylax, machine: Machine, service: Service
) -> None:
    uploads = [
        owner.records.upload("slip.jpg", with_place()),
        owner.records.upload("mark.png", picture("PNG")),
        owner.records.upload("photo.webp", picture("WEBP")),
        owner.records.upload("bill.pdf", PDF),
    ]
    assert [upload.kind for upload in uploads] == ["jpeg", "png", "jpeg", "pdf"]
    entry = owner.records.add_note(machine.tag, "The signed slip.", attachments=uploads)
    assert entry.attachments == tuple(upload.sha256 for upload in uploads)
    assert [attached.name for attached in entry.attached] == [
        "slip.jpg", "mark.png", "photo.webp", "bill.pdf",
    ]  # fmt: skip
    kept = owner.records.attachment(uploads[0].id)
    assert b"SECRET" not in kept
    with Image.open(io.BytesIO(kept)) as opened:
        assert opened.size == (60, 40) and not opened.getexif() and "comment" not in opened.info
    assert owner.records.attachment(uploads[3].id) == PDF
    address = f"{service.url}/api/v2/attachments/{uploads[3].id}"
    answer = httpx.get(address, headers={"Authorization": f"Bearer {owner.secret}"})
    assert answer.headers["content-disposition"].startswith("attachment")
    assert "sandbox" in answer.headers["content-security-policy"]
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert owner.records.verify().intact
    for wrong in (uploads, [uploads[0]]):
        with pytest.raises(RefusedError, match="of no entry"):
            owner.records.add_note(machine.tag, "again", attachments=wrong)
    with pytest.raises(NotFoundError):
        owner.records.attachment(99)


def test_one_that_was_altered_or_taken_away_is_found(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    entries = [
        owner.records.add_note(
            machine.tag, name, attachments=[owner.records.upload(name, picture("PNG"))]
        )
        for name in ("a", "b")
    ]
    with context.db.write() as conn:
        conn.execute("DROP TRIGGER attachments_are_not_changed")
        conn.execute("DROP TRIGGER attachments_are_not_removed")
        conn.execute("UPDATE attachments SET content = x'00' WHERE entry = ?", (entries[1].id,))
    checked = owner.records.verify()
    assert (checked.intact, checked.broken_at) == (False, entries[1].id)
    assert "picture or PDF" in checked.why
    with context.db.write() as conn:
        conn.execute("DELETE FROM attachments WHERE entry = ?", (entries[0].id,))
    assert owner.records.verify().broken_at == entries[0].id


def test_what_is_no_picture_is_refused(owner: Phylax) -> None:
    too_much = bomb()
    out = io.BytesIO()
    Image.new("1", (8000, 8000)).save(out, "PNG")
    large = out.getvalue()
    assert len(large) < 100_000
    for content in (
        too_much, large, b"", b"<svg xmlns='http://www.w3.org/2000/svg'/>", b"GIF89a/*<html>",
        b"MZ\x90",
        b"\n%PDF-1.7", picture("PNG")[:50], b"[" * 5000, picture("GIF"), picture("TIFF"),
    ):  # fmt: skip
        with pytest.raises(RefusedError):
            owner.records.upload("x", content)
    with pytest.raises(RefusedError):
        owner.records.upload("x", b"%PDF-" + bytes(MOST_BYTES))
    assert owner.records.upload("x", b"%PDF-" + b"[" * 5000).kind == "pdf"


def test_of_anothers_uploads_none_is_used_and_they_do_not_pile_up(
    owner: Phylax, machine: Machine, service: Service
) -> None:
    mine = owner.records.upload("a", picture("PNG"))
    with service.as_("petra") as desk:
        with pytest.raises(RefusedError, match="of no entry"):
            desk.records.add_note(machine.tag, "hers", attachments=[mine])
        for number in range(40):
            desk.records.upload(str(number), PDF)
        with pytest.raises(RefusedError, match="Write the entries first"):
            desk.records.upload("one more", PDF)
    owner.records.add_note(machine.tag, "mine", attachments=[mine])
