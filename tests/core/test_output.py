"""What parts are to be: the layout they read by, their keys, their text in any dialect."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.errors import RequestError
from splarn.core.layout import LINES, Dialect, Field, Layout
from splarn.core.reading import text_parser
from splarn.core.reading.text import delimited, json_lines, stamp_text
from splarn.core.records.chunks import record_chunks
from splarn.core.shape.keys import Key, parse_keys
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.rows import partitions, sorted_rows
from splarn.core.shape.verify import row_hashes
from splarn.core.source.codecs import COLUMNAR, Packing

LAYOUT = Layout(
    "tolls",
    Dialect(delimiter=";", null_markers=("", "-"), encoding="latin-1", trim=True),
    (
        Field("day", "date", format="%d.%m.%Y", minimum="01.02.2031", maximum="28.02.2031"),
        Field("open", "boolean", true_values=("ja",), false_values=("nein",), enum=("ja",)),
        Field("toll", "number", precision=6, scale=2, minimum="0.5"),
        Field("code", enum=("a", "b"), max_length=3, pattern="[ab]+"),
        Field("key", format="uuid"),
    ),
)


def test_a_copy_keeps_the_layout_and_a_conversion_writes_the_standard_form() -> None:
    copy = PartsFormat("csv", Packing(), 1 << 20, header=True)
    assert copy.is_copy(LAYOUT)
    assert copy.layout(LAYOUT) == LAYOUT
    for changed in (
        PartsFormat("jsonl", Packing(), 1 << 20),
        PartsFormat("csv", Packing(), 1 << 20, sort_by=(Key("day"),)),
        PartsFormat("parquet", Packing(), 1 << 20, partition_by=(Key("code"),)),
    ):
        assert not changed.is_copy(LAYOUT)
        made = changed.layout(LAYOUT)
        day, opened, toll, code, key = made.fields
        assert (day.format, day.minimum, day.maximum) == ("default", "2031-02-01", "2031-02-28")
        assert (opened.true_values, opened.enum) == ((), ("true",))
        assert (toll.minimum, code.enum, key.format) == ("0.50", ("a", "b"), "uuid")
        expected = Dialect(delimiter=";", header=False) if changed.format == "csv" else LINES
        assert made.dialect == expected
        assert made.format == changed.format
    columnar = Layout("x", LINES, LAYOUT.fields, "parquet")
    assert not PartsFormat("parquet", Packing(), 1).is_copy(columnar)
    assert PartsFormat("csv", Packing(), 1).layout(columnar).dialect == Dialect(header=False)


def test_a_limit_that_is_no_value_is_told() -> None:
    wrong = Layout("x", Dialect(), (Field("n", "integer", minimum="few"),))
    with pytest.raises(RequestError, match="'few' of field 'n' is no integer"):
        PartsFormat("jsonl", Packing(), 1).layout(wrong)


def test_keys_are_read_and_wrong_ones_told() -> None:
    assert parse_keys("code, toll:desc,day:asc", LAYOUT, False) == (
        Key("code"),
        Key("toll", descending=True),
        Key("day"),
    )
    assert parse_keys("day:day,code", LAYOUT, True) == (
        Key("day", "year"),
        Key("day", "month"),
        Key("day", "day"),
        Key("code"),
    )
    for text, partition, what in (
        ("nothing", True, "no field 'nothing'"),
        ("code:year", True, "cannot be partitioned by 'year'"),
        ("day:week", True, "cannot be partitioned by 'week'"),
        ("toll:up", False, "use asc or desc"),
    ):
        with pytest.raises(RequestError, match=what):
            parse_keys(text, LAYOUT, partition)


@pytest.mark.parametrize("name", COLUMNAR)
def test_parquets_own_codecs(name: str) -> None:
    low, high = COLUMNAR[name]
    packing = Packing.parse(name, columnar=True)
    assert packing.codec == name
    assert low <= packing.level <= high
    with pytest.raises(RequestError, match="cannot have level"):
        Packing.parse(f"{name}:{high + 1}", columnar=True)


def test_partitions_name_their_folders_safely() -> None:
    table = pa.table(
        {
            "lock": ["a/b", "..", None, "", "Ü 7", "a/b"],
            "at": pa.array([datetime(2031, 4, 5)] * 5 + [None], pa.timestamp("us")),
            "n": range(6),
        }
    )
    found = partitions(table, (Key("lock"),))
    assert {folder: rows.column("n").to_pylist() for folder, rows in found} == {
        "lock=": [2, 3],
        "lock=%2E.": [1],
        "lock=%C3%9C%207": [4],
        "lock=a%2Fb": [0, 5],
    }
    by_month = partitions(table, (Key("at", "year"), Key("at", "month")))
    assert [(folder, len(rows)) for folder, rows in by_month] == [
        ("year=/month=", 1),
        ("year=2031/month=04", 5),
    ]
    assert partitions(table, ()) == [("", table)]
    with pytest.raises(RequestError, match="2,000 folders"):
        partitions(pa.table({"n": range(2000)}), (Key("n"),))


def test_rows_are_sorted_by_several_keys() -> None:
    table = pa.table({"a": [2, 1, 2, None], "b": ["x", "y", "z", "w"]})
    found = sorted_rows(table, (Key("a"), Key("b", descending=True)))
    assert found.column("b").to_pylist() == ["y", "z", "x", "w"]
    assert sorted_rows(table, ()) is table


MARKS = st.sampled_from([",", ";", "\t", "|", "§", "^", "-", "]", "\\", "\x1f", "'"])
TEXT = st.none() | st.text(st.sampled_from("ab,;\t|§^-]\\\"'\n\r é"), max_size=8)


@given(MARKS, st.lists(st.tuples(TEXT, TEXT), min_size=1, max_size=6))
def test_text_is_written_so_that_it_reads_back_in_any_dialect(
    mark: str, rows: list[tuple[str | None, str | None]]
) -> None:
    layout = Layout("text", Dialect(delimiter=mark, header=False), (Field("a"), Field("b")))
    expected = [{"a": a, "b": b} for a, b in rows]
    table = pa.Table.from_pylist(expected, schema=layout.arrow_schema)
    data = delimited(table, layout)
    found: list[dict[str, Any]] = []
    for chunk in record_chunks([data], layout.dialect, where="text", offset=1):
        parsed = text_parser(layout, "text").parse(chunk)
        assert not parsed.faults
        found += parsed.table.to_pylist()
    # A record of nothing but a null, where there is one column, would be a blank line; not here.
    assert found == expected


@given(st.permutations(range(6)))
def test_hashes_of_rows_do_not_depend_on_their_order(order: list[int]) -> None:
    layout = Layout("x", Dialect(), (Field("a"), Field("n", "integer"), Field("o", "object")))
    rows = [
        {"a": None, "n": 1, "o": None},
        {"a": "", "n": 1, "o": "{}"},
        {"a": "n", "n": None, "o": '{"b": 1, "c": 2}'},
        {"a": "v", "n": 1, "o": None},
        {"a": "v\x1fv1", "n": None, "o": None},
        {"a": "v", "n": 1, "o": None},
    ]
    table = pa.Table.from_pylist(rows, schema=layout.arrow_schema)
    whole = row_hashes(table, layout)
    assert row_hashes(table.take(order), layout) == whole
    assert row_hashes(table.slice(0, 5), layout) != whole
    spaced = [{**row, "o": '{"b":1,"c":2}' if row["a"] == "n" else row["o"]} for row in rows]
    assert row_hashes(pa.Table.from_pylist(spaced, schema=layout.arrow_schema), layout) == whole
    swapped = [{**row, "a": "" if row["a"] is None else row["a"]} for row in rows]
    assert row_hashes(pa.Table.from_pylist(swapped, schema=layout.arrow_schema), layout) != whole


def test_stamps_have_no_more_digits_than_they_need() -> None:
    whole = pa.array([datetime(2031, 1, 1), None], pa.timestamp("us"))
    assert stamp_text(whole).to_pylist() == ["2031-01-01 00:00:00", None]
    parts = pa.array([datetime(2031, 1, 1, 0, 0, 0, 5), None], pa.timestamp("us"))
    assert stamp_text(parts).to_pylist() == ["2031-01-01 00:00:00.000005", None]


def test_json_lines_are_what_json_says() -> None:
    layout = Layout(
        "x",
        LINES,
        (
            Field('the "n"', "number"),
            Field("d", "date"),
            Field("t", "number", precision=4, scale=1),
            Field("o", "array"),
        ),
        "jsonl",
    )
    rows = [
        {'the "n"': 2.5, "d": date(2031, 1, 2), "t": Decimal("1.5"), "o": "[1,\n 2]"},
        {'the "n"': None, "d": None, "t": None, "o": None},
    ]
    table = pa.Table.from_pylist(rows, schema=layout.arrow_schema)
    assert json_lines(table, layout).decode().splitlines() == [
        '{"the \\"n\\"":2.5,"d":"2031-01-02","t":1.5,"o":[1,  2]}',
        '{"the \\"n\\"":null,"d":null,"t":null,"o":null}',
    ]
    endless = pa.Table.from_pylist([{**rows[1], 'the "n"': float("inf")}], layout.arrow_schema)
    with pytest.raises(RequestError, match="infinite number"):
        json_lines(endless, layout)
