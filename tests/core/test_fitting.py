"""Rows of one layout fitted into another: exactly, or as a fault."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from splarn.core.errors import RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.reading.faults import Fault
from splarn.core.reading.parsed import Parsed
from splarn.core.shape.fitting import Fitting, fitting_of

MONEY = Field("amount", "number", precision=6, scale=2)
INTO = {
    "integer": Field("v", "integer"),
    "float": Field("v", "number"),
    "decimal": Field("v", "number", precision=6, scale=2),
    "string": Field("v"),
    "datetime": Field("v", "datetime"),
    "date": Field("v", "date"),
}


def layout(*fields: Field) -> Layout:
    return Layout("t", Dialect(), fields)


def fault(row: int, field: str | None, kind: str, value: str | None, message: str) -> Fault:
    return Fault("f", row + 1, row + 1, field, kind, value, message, "")


def parsed(source: Layout, columns: list[list[Any]], skipped: int = 0) -> Parsed:
    """Rows after so many that were bad already."""
    arrays = [pa.array(one, field.arrow_type())
              for one, field in zip(columns, source.fields, strict=True)]  # fmt: skip
    table = pa.table(arrays, schema=source.arrow_schema)
    good = np.arange(skipped, skipped + len(table))
    return Parsed(0, skipped + len(table), 0, 0, 0, table, good, ())


def as_number(value: Any) -> Decimal | None:
    try:
        return Decimal(str(value).strip())
    except ArithmeticError:
        return None


numbers = st.one_of(
    st.integers(-(10**6), 10**6).map(str),
    st.decimals(-(10**5), 10**5, places=2).map(str),
    st.floats(-1e9, 1e9, allow_nan=False).map(str),
    st.sampled_from(["", "deep", "1e3", "007", "0x1F", "12.0", "99999.999", "NaN", "1 000"]),
)


@given(st.lists(st.one_of(st.none(), numbers), max_size=20), st.sampled_from(["integer", "float",
       "decimal"]), st.integers(0, 3))  # fmt: skip
def test_text_becomes_the_same_number_or_a_fault(
    texts: list[str | None], kind: str, skipped: int
) -> None:
    source = layout(Field("v"))
    told = Fitting(source, layout(INTO[kind]), ("v",)).fitted(
        parsed(source, [texts], skipped), fault
    )
    values = dict(zip(told.good.tolist(), told.table.column("v").to_pylist(), strict=True))
    bad = {one.row - 1 for one in told.faults}
    assert sorted([*values, *bad]) == list(range(skipped, skipped + len(texts)))
    for row, value in values.items():
        text = texts[row - skipped]
        # No number is no value, as it is wherever numbers are read.
        assert (value is None) == (text in (None, "NaN"))
        if text is not None and value is not None:
            number = as_number(text)
            assert number is not None
            assert Decimal(str(value)) == number or float(text) == value


@given(st.lists(st.integers(-(2**60), 2**60), max_size=20))
def test_integers_become_decimals_and_text_and_come_back(whole: list[int]) -> None:
    source = layout(Field("v", "integer"))
    for kind in ("decimal", "float", "string"):
        told = Fitting(source, layout(INTO[kind]), ("v",)).fitted(parsed(source, [whole]), fault)
        values = told.table.column("v").to_pylist()
        for row, value in zip(told.good.tolist(), values, strict=True):
            assert int(value) == whole[row]
        assert len(told.good) + len(told.faults) == len(whole)
    # All that fit into the digits of a decimal do become one.
    told = Fitting(source, layout(MONEY), ("v",)).fitted(parsed(source, [whole]), fault)
    assert len(told.good) == sum(abs(one) < 10_000 for one in whole)


def test_dates_moments_and_fractions_are_cast_as_they_are() -> None:
    days = [date(2031, 7, 1), None]
    source = layout(Field("v", "date"))
    told = Fitting(source, layout(INTO["datetime"]), ("v",)).fitted(parsed(source, [days]), fault)
    assert told.table.column("v").to_pylist() == [datetime(2031, 7, 1), None]
    source = layout(Field("v", "number"))
    halves = [2.0, 2.5, -7.0, None]
    told = Fitting(source, layout(INTO["integer"]), ("v",)).fitted(parsed(source, [halves]), fault)
    assert told.table.column("v").to_pylist() == [2, -7, None]
    assert [(one.row, one.value) for one in told.faults] == [(2, "2.5")]


def test_what_a_table_asks_for_holds_for_other_kinds_too() -> None:
    into = layout(Field("no", "integer", required=True, minimum="1"), Field("lock", enum=("A",)))
    source = layout(Field("lock"), Field("id"))
    fitting = fitting_of(source, into, {"no": "id"}, (), "kinds.radio")
    told = fitting.fitted(parsed(source, [["A", "A", "B", "A"], ["1", "0", "2", None]]), fault)
    assert told.table.to_pylist() == [{"no": 1, "lock": "A"}]
    assert [(one.row, one.field, one.kind) for one in told.faults] == [
        (2, "no", "constraint"), (3, "lock", "constraint"), (4, "no", "required"),
    ]  # fmt: skip
    assert fitting.casts == ("no is its id, string as integer",)


@pytest.mark.parametrize(
    ("columns", "leave_out", "why"),
    [
        ({}, (), "nothing for no"),
        ({"no": "nummer"}, (), "takes no from nummer"),
        ({"number": "id"}, (), "names number"),
        ({"no": "id"}, ("batterie",), "leave_out names batterie"),
        ({"no": "id"}, (), "battery goes nowhere"),
        ({"no": "taken"}, ("id", "battery"), "cannot become no"),
    ],
)
def test_rules_that_lead_nowhere_are_named(
    columns: dict[str, str], leave_out: tuple[str, ...], why: str
) -> None:
    source = layout(Field("id", "integer"), Field("battery"), Field("taken", "date"))
    into = layout(Field("no", "integer", required=True), Field("taken", "date"))
    with pytest.raises(RequestError, match=why):
        fitting_of(source, into, columns, leave_out, "kinds.radio")
