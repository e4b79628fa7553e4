"""What a target keeps of a load: marks, details, limits and levers, each written and read back."""

from __future__ import annotations

from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st
from pytest import mark, raises

from splarn.core.errors import RequestError
from splarn.core.layout import Field
from splarn.core.layout.dialect import Dialect
from splarn.core.layout.fields import Layout
from splarn.core.load import BadRows
from splarn.core.load.opening import intended
from splarn.core.load.request import LoadRequest
from splarn.core.load.table import TableMatch
from splarn.core.target.details import LoadDetails
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.levers import LoadLevers, way_of_writing
from splarn.core.target.marks import MOST_RANGES, joined, marks_text, read_marks
from splarn.core.tuning.configuration import Configuration, Space

NUMBERS = st.sets(st.integers(0, 300), max_size=80)


@given(st.lists(NUMBERS, max_size=5))
def test_marks_keep_exactly_their_numbers(many: list[set[int]]) -> None:
    found = joined([tuple((n, n) for n in numbers) for numbers in many])
    assert found is not None
    held = [n for first, last in found for n in range(first, last + 1)]
    assert held == sorted(set().union(*many))
    # Apart from one another, so there are as few as can be.
    assert all(a[1] + 1 < b[0] for a, b in pairwise(found))
    assert read_marks(marks_text(found)) == found
    assert joined([found, None]) is None


def test_marks_that_would_grow_too_large_are_given_up() -> None:
    assert joined([tuple((n, n) for n in range(0, 2 * MOST_RANGES, 2))]) is not None
    assert joined([tuple((n, n) for n in range(0, 2 * MOST_RANGES + 2, 2))]) is None
    assert read_marks(marks_text(None)) is None
    assert read_marks("") == ()


def test_details_come_back_as_they_were() -> None:
    details = LoadDetails(
        stage="load", side_table="t_next_1", before="t_before_1", made=True, durability="relaxed",
        route="landing", fields=(Field("a", "number", precision=9, scale=2), Field("b")),
        indexes=(("i", "CREATE INDEX i ON t (a)"),), last_row=7, rows_before=3,
        digests_before=(ColumnDigest("a", 3, 0, 12, 1, 9),), ended=(("load-1", "done"),),
        digests=(ColumnDigest("b", 1, 2, 5),), marks=((4, 6), (9, 9)),
    )  # fmt: skip
    assert LoadDetails.read(details.text()) == details
    assert LoadDetails.read("") == LoadDetails() == LoadDetails.read(LoadDetails().text())
    earlier = '{"version": 2, "aside": "t_next_1", "swaps": true, "rest": "u1"}'
    found = LoadDetails.read(earlier)
    assert (found.side_table, found.swaps, found.resting_tier) == ("t_next_1", True, "u1")
    # What a newer Splarn added does not stand in the way.
    assert LoadDetails.read('{"weather": "fair", "made": true}').made is True


@mark.parametrize(
    ("text", "limit", "words"),
    [
        (None, BadRows(), "any rows"),
        ("2_000", BadRows(2000), "2,000 rows"),
        (3, BadRows(3), "3 rows"),
        ("0.5%", BadRows(share=0.005), "0.5 % of the rows"),
    ],
)
def test_limits_are_read_as_people_write_them(
    text: int | str | None, limit: BadRows, words: str
) -> None:
    assert BadRows.read(text) == limit == BadRows.read(limit.as_json())
    assert str(limit) == words
    for wrong in ("many", "120%", "-1"):
        with raises(RequestError):
            BadRows.read(wrong)


def test_a_share_means_little_before_enough_rows_are_read() -> None:
    limit = BadRows(share=0.01)
    assert limit.allows(5, 100)
    assert not limit.allows_in_the_end(5, 100)
    assert limit.allows(10, 1000)
    assert not limit.allows(11, 1000)


ONE: dict[str, tuple[object, ...]] = {
    "part_size": (1 << 20,),
    "packing": ("none",),
    "workers": (1,),
    "load_streams": (1,),
    "batch_rows": (0,),
}


def test_levers_are_part_of_a_configuration() -> None:
    space = Space.of({**ONE, "durability": ("full", "none"), "route": ("straight", "landing")})
    found = list(space.grid())
    ways = [way_of_writing(one) for one in found]
    assert ways == [
        "durability full, indexes keep, route straight",
        "durability full, indexes keep, route landing",
        "durability none, indexes keep, route landing",
    ]
    assert [Configuration.from_json(one.as_json()) for one in found] == found
    assert str(found[0]).endswith("u1")
    assert str(found[2]).endswith("u1, durability none, route landing")
    older = found[0].as_json()
    del older["durability"], older["route"], older["indexes"]
    assert Configuration.from_json(older).load_levers == LoadLevers()
    with raises(RequestError, match="'sideways' is not known"):
        Space.of({**ONE, "indexes": ("sideways",)})


@mark.parametrize(
    ("mode", "rows", "keep", "route", "aside", "before", "swaps"),
    [
        ("create", None, True, "straight", "", "", False),
        ("append", 5, True, "straight", "", "", False),
        ("append", 5, True, "landing", "landing", "", False),
        ("empty", 5, True, "straight", "", "before", False),
        ("empty", 5, False, "landing", "landing", "", False),
        ("empty", 0, True, "straight", "", "", False),
        ("replace", 5, False, "landing", "next", "before", True),
        ("replace", 0, True, "straight", "next", "before", True),
        ("replace", None, True, "straight", "", "", False),
    ],
)
def test_what_a_load_intends_follows_from_what_is_asked_and_there(
    mode: str, rows: int | None, keep: bool, route: str, aside: str, before: str, swaps: bool
) -> None:
    layout = Layout("tolls", Dialect(), (Field("no", "integer"), Field("toll", "number")))
    asked = LoadRequest(
        open_engine=None,  # type: ignore[arg-type]
        table="tolls", layout=layout, inputs=(), table_mode=mode, keep_old=keep,
        levers=LoadLevers(route=route),
    )  # fmt: skip
    found = intended(
        asked, TableMatch(rows is not None, lambda: rows or 0, ("no",)), "20310401-101010-abcd"
    )
    names = {"": "", "landing": "tolls_landing_abcd", "next": "tolls_next_abcd",
             "before": "tolls_before_abcd"}  # fmt: skip
    assert (found.side_table, found.before, found.swaps) == (names[aside], names[before], swaps)
    assert (found.made, found.names, found.stage) == (rows is None, ("no",), "prepare")
