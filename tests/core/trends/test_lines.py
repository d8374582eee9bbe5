"""Which readings belong to one and the same volume, in whatever order they come."""

from itertools import permutations

from phylax.core.trends.lines import Line, with_reading


def lines_of(*readings: tuple[int, int, str]) -> list[Line]:
    lines: list[Line] = []
    for at, capacity, identity in readings:
        lines = with_reading(lines, at, capacity, identity)
    return lines


def test_the_same_volume_stays_one_line() -> None:
    lines = lines_of((10, 1000, "a"), (20, 1004, "a"), (30, 1000, ""), (5, 1000, "a"))
    assert [(line.began_at, line.why) for line in lines] == [(5, "")]


def test_a_resized_volume_begins_a_new_line_and_keeps_the_old() -> None:
    lines = lines_of((10, 100 << 30, "a"), (20, 10 << 30, "a"))
    assert [line.began_at for line in lines] == [10, 20]
    assert lines[1].why == "10.0 GiB instead of 100.0 GiB"


def test_a_replaced_file_system_begins_a_new_line() -> None:
    assert lines_of((10, 1000, "a"), (20, 1000, "b"))[1].why == "another file system"


def test_an_identity_that_becomes_known_is_no_change() -> None:
    assert lines_of((10, 1000, ""), (20, 1000, "a")) == [Line(10, 1000, "a")]


def test_late_readings_move_the_change_back_and_begin_nothing() -> None:
    lines = lines_of((10, 1000, ""), (50, 2000, ""), (40, 2000, ""), (20, 1000, ""))
    assert [(line.began_at, line.capacity) for line in lines] == [(10, 1000), (40, 2000)]


def test_any_order_gives_the_same_lines() -> None:
    readings = [(10, 1000, "a"), (20, 1000, "a"), (30, 2000, "a"), (40, 2000, "a"), (50, 3000, "b")]
    found = {
        tuple((line.began_at, line.capacity) for line in lines_of(*order))
        for order in permutations(readings)
    }
    assert found == {((10, 1000), (30, 2000), (50, 3000))}
