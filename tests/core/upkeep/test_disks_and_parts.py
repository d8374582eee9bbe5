"""Which treatment a disk gets by its facts, and what firmware tables say; both against nonsense."""

from __future__ import annotations

import itertools
import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.inventory.disks import DiskFacts, Treatment, judged
from phylax.core.inventory.smbios import memory

GIB = 2**30
SPINNING = DiskFacts(spins=True, gives_back=False, turns=7200)
SOLID = DiskFacts(spins=False, gives_back=True, turns=0)


@pytest.mark.parametrize(
    ("facts", "treatment"),
    [
        (SPINNING, Treatment.GATHER),
        (DiskFacts(spins=True, gives_back=False), Treatment.GATHER),
        (SOLID, Treatment.GIVE_BACK),
        (DiskFacts(spins=False, gives_back=True), Treatment.GIVE_BACK),
        (DiskFacts(spins=False, gives_back=True, flash_bus=True), Treatment.GIVE_BACK),
        (DiskFacts(), Treatment.NONE),
        (DiskFacts(spins=True), Treatment.NONE),
        (DiskFacts(spins=False), Treatment.NONE),
        (DiskFacts(spins=True, gives_back=True), Treatment.NONE),
        (DiskFacts(spins=True, gives_back=False, turns=0), Treatment.NONE),
        (DiskFacts(spins=False, gives_back=True, turns=7200), Treatment.NONE),
        (DiskFacts(spins=False, gives_back=False, flash_bus=True), Treatment.NONE),
        (SPINNING.model_copy(update={"zoned": True}), Treatment.NONE),
        (SPINNING.model_copy(update={"pending": 3}), Treatment.NONE),
        (SOLID.model_copy(update={"pending": 1}), Treatment.NONE),
    ],
)
def test_several_facts_have_to_agree(facts: DiskFacts, treatment: Treatment) -> None:
    judgement = judged(facts, "ext4", snapshots=False)
    assert judgement.treatment is treatment and judgement.why


@pytest.mark.parametrize("file_system", ["btrfs", "zfs", "APFS".lower(), "refs"])
def test_copy_on_write_is_never_gathered(file_system: str) -> None:
    assert judged(SPINNING, file_system, snapshots=False).treatment is Treatment.NONE
    assert judged(SPINNING, "ext4", snapshots=True).treatment is Treatment.NONE
    assert judged(SOLID, file_system, snapshots=True).treatment is Treatment.GIVE_BACK


def test_never_the_treatment_of_the_other_kind() -> None:
    known = [None, False, True]
    for spins, gives, flash, turns in itertools.product(
        known, known, (False, True), (None, 0, 5400)
    ):
        facts = DiskFacts(spins=spins, gives_back=gives, flash_bus=flash, turns=turns)
        treatment = judged(facts, "ext4", snapshots=False).treatment
        if treatment is Treatment.GATHER:
            assert spins is True and not gives and not flash and turns != 0
        if treatment is Treatment.GIVE_BACK:
            assert spins is False and gives is True and not turns


# --- firmware tables -------------------------------------------------------------------------


def table(kind: int, body: bytes, *strings: bytes) -> bytes:
    head = struct.pack("<BBH", kind, len(body) + 4, 0x1000 + kind)
    return head + body + (b"\0".join(strings) + b"\0" if strings else b"\0") + b"\0"


def device(size: int, kind: int = 0x1A, extended: int = 0) -> bytes:
    body = bytearray(0x5C)
    struct.pack_into("<H", body, 0x0C - 4, size)
    body[0x10 - 4], body[0x12 - 4], body[0x17 - 4], body[0x1A - 4] = 1, kind, 2, 3
    struct.pack_into("<I", body, 0x1C - 4, extended)
    return table(17, bytes(body), b"Slot 1", b"Skua", b"S-2400")


ARRAY = table(16, struct.pack("<BBBIHH", 3, 3, 3, 32 * 2**20, 0, 2))
LARGE = table(16, struct.pack("<BBBIHHQ", 3, 3, 3, 0x8000_0000, 0, 2, 4096 * GIB))


def test_slots_are_read_with_what_is_in_them() -> None:
    said = memory(ARRAY + device(8192) + device(0) + device(0x7FFF, extended=65_536))
    assert said.most == 32 * GIB
    sizes = [slot.size for slot in said.slots]
    assert sizes == [8 * GIB, None, 64 * GIB]
    first = said.slots[0]
    assert (first.place, first.kind, first.maker, first.model) == (
        "Slot 1", "DDR4", "Skua", "S-2400"
    )  # fmt: skip
    assert memory(LARGE).most == 4096 * GIB
    assert memory(device(0x8000 | 512)).slots[0].size == 512 * 2**10


@given(st.binary(max_size=600))
def test_nonsense_is_no_error(data: bytes) -> None:
    for tables in (data, ARRAY + data, device(8192) + data):
        said = memory(tables)
        assert len(said.slots) <= 64


def test_tables_that_are_cut_short_give_what_was_whole() -> None:
    whole = ARRAY + device(8192) + device(4096)
    seen = {len(memory(whole[:cut]).slots) for cut in range(len(whole) + 1)}
    assert seen == {0, 1, 2}
