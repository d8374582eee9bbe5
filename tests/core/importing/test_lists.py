"""What becomes of lists that were kept badly."""

from __future__ import annotations

import base64

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bad_lists import bad_list
from phylax.core.clients.importing import cells, reading
from phylax.core.clients.importing.columns import guessed
from phylax.core.clients.importing.planning import Known, KnownRow
from phylax.core.clients.importing.request import (
    ImportPreview,
    ImportRequest,
    LineStatus,
    ListField,
    NamedColumn,
)
from phylax.core.clients.importing.taking_in import prepare
from phylax.core.ground.machines import System

EMPTY = Known([], [], {}, {})
_F = ListField


def preview(text: str | bytes, known: Known = EMPTY, **said: object) -> ImportPreview:
    content = text.encode() if isinstance(text, str) else text
    asked = ImportRequest.model_validate({"content": base64.b64encode(content), **said})
    return prepare(asked, lambda: known).preview


def counts(seen: ImportPreview) -> dict[int, LineStatus]:
    return {line.line: line.status for line in seen.lines}


@pytest.mark.parametrize(
    ("encoding", "sure"),
    [("utf-8", True), ("utf-8-sig", True), ("utf-16", True), ("utf-16-le", True),
     ("utf-16-be", True), ("windows-1252", False)],
)  # fmt: skip
def test_every_line_gets_its_fate_in_every_encoding(encoding: str, sure: bool) -> None:
    made = bad_list()
    seen = preview(made.text.encode(encoding))
    assert seen.sure is sure and bool(seen.needed) is not sure and bool(seen.preview) is sure
    assert counts(seen) == made.counts
    assert seen.new_clients == made.clients
    tags = {line.tag for line in seen.lines if line.status is LineStatus.ADDED}
    assert made.tags <= tags and len(tags) == seen.count_by_status[LineStatus.ADDED]
    if not sure:
        assert any("Örtel" in line for line in seen.doubtful)
        said = preview(made.text.encode(encoding), encoding="windows-1252")
        assert said.preview and counts(said) == made.counts


def test_its_name_changes_with_all_that_counts() -> None:
    text = "client,tag,os\nKelpie Boatyard,boat-1,linux\n"
    known = Known([KnownRow({_F.CLIENT: "Kelpie Boatyard"}, id=3, version=1)], [], {}, {})
    first = preview(text, known).preview
    assert first == preview(text, known).preview
    changed = Known([KnownRow({_F.CLIENT: "Kelpie Boatyard"}, id=3, version=2)], [], {}, {})
    others = [
        preview(text, changed), preview(text), preview(text + " ", known),
        preview(text, known, source="other"), preview(text, known, overwrite=True),
    ]  # fmt: skip
    assert len({first, *(seen.preview for seen in others)}) == 6


def shop_of_one() -> Known:
    client = KnownRow({_F.CLIENT: "Kelpie Boatyard", _F.PHONE: "555 0101"}, id=3, version=1)
    machine = KnownRow(
        {_F.TAG: "boat-1", _F.SYSTEM: "linux", _F.MAKE: "Corrin", _F.SERIAL: "CO 77"}, id=9,
        version=4, client=client,
    )  # fmt: skip
    gone = KnownRow({_F.TAG: "boat-0", _F.SYSTEM: "linux"}, id=8, version=1, client=client)
    gone.retired = True
    other = KnownRow({_F.CLIENT: "Harbour Choir"}, id=4, version=1)
    past = KnownRow({_F.CLIENT: "Old Mill"}, id=5, version=1, retired=True)
    return Known([client, other, past], [machine, gone], {"K7": 3}, {"12": 9})


@pytest.mark.parametrize(
    ("line", "status", "said"),
    [
        ("kelpie boatyard,boat-1,Linux,,,,", LineStatus.SAME, ""),
        ("Kelpie Boatyard,boat-1,,Slate 14,,,", LineStatus.COMPLETED, ""),
        ("Kelpie Boatyard,boat-1,macos,,,,", LineStatus.DIFFERS, "“linux” stays, not “macos”"),
        ("Kelpie Boatyard,,linux,,co77,,", LineStatus.SAME, ""),
        ("Kelpie Boatyard,boat-2,linux,,CO77,,", LineStatus.REFUSED, "another tag"),
        ("Harbour Choir,boat-1,linux,,,,", LineStatus.REFUSED, "is a machine of Kelpie Boatyard"),
        ("Harbour Choir,choir-1,linux,,CO77,,", LineStatus.ADDED, ""),
        ("Kelpie Boatyard,boat-0,linux,,,,", LineStatus.REFUSED, "bring the machine back first"),
        ("Old Mill,mill-1,linux,,,,", LineStatus.REFUSED, "bring the client back first"),
        (",,,,,12,", LineStatus.SAME, ""),
        (",boat-5,,,,12,", LineStatus.DIFFERS, "“boat-1” stays, not “boat-5”"),
        (",boat-0,,,,12,", LineStatus.REFUSED, "its tag is another's"),
        ("Kelpie Boats,,,,,,K7", LineStatus.DIFFERS, "client: “Kelpie Boatyard” stays"),
        ("Kelpie Boatyard,77,linux,,,,", LineStatus.REFUSED, "add a letter"),
        ("Kelpie Boatyard,new,linux,,,,", LineStatus.REFUSED, "name of a page"),
        (f"{'K' * 121},k-1,linux,,,,", LineStatus.REFUSED,
        "client: String should have at most 120"),
    ],
)  # fmt: skip
def test_a_line_and_what_the_shop_has(line: str, status: LineStatus, said: str) -> None:
    heading = "client,tag,os,model,serial,number,client number\n"
    (seen,) = preview(heading + line + "\n", shop_of_one()).lines
    assert seen.status is status
    assert said in " ".join(seen.remarks)


def test_where_the_list_is_right_it_says_what_was_there() -> None:
    text = "client,tag,os,tel\nKelpie Boatyard,boat-1,windows,555 0199\n"
    (line,) = preview(text, shop_of_one(), overwrite=True).lines
    assert line.status is LineStatus.CHANGED
    changed = {change.field: (change.before, change.after) for change in line.changes}
    assert changed == {_F.SYSTEM: ("linux", "windows"), _F.PHONE: ("555 0101", "555 0199")}


def test_a_refused_line_leaves_nothing_behind() -> None:
    """What it would have said of its client does not count."""
    text = (
        "client,phone,tag,os,note\n"
        f"Mill,1,mill-1,linux,{'x' * 5000}\n"
        "Mill,2,mill-2,linux,\n"
        f"Kelpie Boatyard,,boat-1,,{'x' * 5000}\n"
    )
    bad, good, worse = preview(text, shop_of_one()).lines
    assert (bad.status, good.status, worse.status) == (
        LineStatus.REFUSED, LineStatus.ADDED, LineStatus.REFUSED,
    )  # fmt: skip
    assert good.new_client and "note" in bad.remarks[0] and not good.remarks


def test_columns_are_what_somebody_says() -> None:
    text = "A,B,C\nKelpie Boatyard,boat-7,linux\n"
    seen = preview(text)
    assert "which column" in seen.needed and not seen.lines
    said = [{"column": 1, "field": "client"}, {"column": 2, "field": "tag"},
            {"column": 3, "field": "system"}]  # fmt: skip
    assert preview(text, columns=said).count_by_status[LineStatus.ADDED] == 1
    with pytest.raises(ValueError, match="no column 9"):
        preview(text, columns=[{"column": 9, "field": "client"}])
    with pytest.raises(ValueError, match="hold the same"):
        preview(text, columns=[{"column": n, "field": "client"} for n in (1, 2)])
    # what was taken for a column before is not, where another is said to be it
    seen = preview("Tag,Host\nx,y\n", columns=[{"column": 2, "field": "tag"}])
    assert [column.field for column in seen.columns] == [None, _F.TAG]


def test_headings_of_two_languages_are_understood() -> None:
    heading = ("Kd-Nr.", "Kundenname", "E-Mail", "Gerät", "Serial No.", "Os", "Straße", "Tag")
    named = {heading[named.column - 1]: named.field for named in guessed(heading)}
    assert named == {
        "Kd-Nr.": _F.CLIENT_NUMBER, "Kundenname": _F.CLIENT, "E-Mail": _F.MAIL, "Gerät": _F.TAG,
        "Serial No.": _F.SERIAL, "Os": _F.SYSTEM, "Straße": None, "Tag": None,
    }  # fmt: skip
    assert guessed(["Name", "PC"])[0] == NamedColumn(column=1, field=_F.CLIENT)


@pytest.mark.parametrize("sign", [",", ";", "\t", "|"])
def test_separators(sign: str) -> None:
    lines = [["client", "tag", "note"], ["A, B; Co", "a-1", "x | y"], ["C", "c-1", "1,5; 2"]]
    text = "\n".join(sign.join(f'"{cell}"' for cell in line) for line in lines)
    assert reading.sheet(text).separator == sign
    assert reading.sheet(f"sep={sign}\n{text}").rows[0].cells == tuple(lines[1])


@pytest.mark.parametrize(
    ("content", "why"),
    [(b"", "nothing in the list"), (b"\n\n;;;\n", "nothing in the list"),
     (b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR", "no list"), (b'"client\nx\n', "names of the columns"),
     (b"a," * 300 + b"\nx\n", "columns"), (b"client\n" + b"x\n" * 20_001, "cut it into parts")],
)  # fmt: skip
def test_what_is_no_list_is_said(content: bytes, why: str) -> None:
    with pytest.raises(ValueError, match=why):
        preview(content)


def test_an_encoding_that_it_is_not_is_refused() -> None:
    with pytest.raises(ValueError, match="is not utf-8"):
        preview("Ö;x\n".encode("windows-1252"), encoding="utf-8")


def test_quotes_that_are_never_closed_cost_their_lines_alone_and_no_time() -> None:
    text = "client,tag,os\n" + 'a,"b,linux\n' * 3000 + "Mill,mill-1,linux\n"
    seen = preview(text)
    assert (
        seen.count_by_status[LineStatus.ADDED] == 1
        and seen.count_by_status[LineStatus.REFUSED] == 3000
    )


def test_a_quote_that_is_closed_far_below_swallows_nothing() -> None:
    lines = [f"Mill,mill-{number},linux" for number in range(100)]
    text = "\n".join(["client,tag,os", 'Mill,"open,linux', *lines, 'Mill,shut",linux']) + "\n"
    assert preview(text).count_by_status[LineStatus.ADDED] == 101


@pytest.mark.parametrize(
    ("cell", "text"),
    [("8", 8 << 30), ("7,8 GB", 8375186227), ("16GB", 16 << 30), ("4096 MB", 4 << 30),
     ("4 G", 4 << 30), ("8589934592", 8 << 30), ("8 GiB RAM", 8 << 30), ("lots", ""), ("", "")],
)  # fmt: skip
def test_memory(cell: str, text: int | str) -> None:
    assert cells.memory(cell).text == str(text)


@pytest.mark.parametrize(
    ("cell", "kind"),
    [("Windows 10", System.WINDOWS), ("W11 Pro", System.WINDOWS), ("Darwin", System.MACOS),
     ("MacBook", System.MACOS), ("Linux Mint", System.LINUX), ("BeOS", None), ("", None)],
)  # fmt: skip
def test_systems(cell: str, kind: System | None) -> None:
    assert cells.system(cell) is kind


@given(st.binary(max_size=400) | st.text(max_size=400).map(str.encode))
def test_whatever_it_is_it_is_read_or_refused(content: bytes) -> None:
    try:
        seen = preview(content, encoding="utf-8", system="linux")
    except ValueError:
        return
    assert sum(seen.count_by_status.values()) == len(seen.lines)


@given(
    st.lists(
        st.tuples(*[st.text("abAB ='\"#-?1 \N{SOFT HYPHEN}\u00df", max_size=6)] * 5), max_size=12
    )
)
def test_taken_in_twice_nothing_is_left_to_take_in(lines: list[tuple[str, ...]]) -> None:
    text = "client;tag;serial;number;phone\n" + "".join(
        ";".join(f'"{cell}"' for cell in line) + "\n" for line in lines
    )
    asked = ImportRequest.model_validate(
        {"content": base64.b64encode(text.encode()), "system": "linux"}
    )
    first = prepare(asked, lambda: EMPTY)
    if first.preview.count_by_status[LineStatus.REFUSED]:
        # a line that named no client says something once another line has made its machine
        return
    clients = [*first.plan.clients]
    machines = [*first.plan.machines]
    for number, kept in enumerate((*clients, *machines), 1):
        kept.id, kept.line, kept.changes = number, 0, []
    known = Known(
        clients, machines, {}, {m.number: m.id for m in machines if m.number and m.id},
    )  # fmt: skip
    again = prepare(asked, lambda: known).preview
    for status in (LineStatus.ADDED, LineStatus.COMPLETED, LineStatus.CHANGED):
        assert again.count_by_status[status] == 0, again.lines


def test_two_clients_that_are_spelled_alike_are_told_apart() -> None:
    names = ("Mueller", "Müller")
    clients = [KnownRow({_F.CLIENT: name}, id=n, version=1) for n, name in enumerate(names, 1)]
    known = Known(clients, [], {}, {})
    for name in names:
        (line,) = preview(f"client,tel\n{name.upper()},1\n", known).lines
        assert (line.status, line.client) == (LineStatus.COMPLETED, name)
