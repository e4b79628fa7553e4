"""A value is taken as a type only where it comes back out of it as it was written."""

from __future__ import annotations

import json
import re
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from splarn.core.inference.column_types import guess_field
from splarn.core.inference.moments import settle_day_first
from splarn.core.layout import LINES, Dialect, Field, Layout
from splarn.core.layout.naming import LONGEST_NAME, settled_names
from splarn.core.reading import read_parsed
from splarn.core.reading.convert import convert_text
from splarn.core.reading.delimited import has_hex, has_long_digits, has_odd_start, has_padded
from splarn.core.records.bitmaps import Bitmaps
from splarn.core.source.json_values import json_values

DIGITS = st.text("0123456789", min_size=1, max_size=30)
NUMBERS = st.builds(
    lambda sign, whole, point, rest: f"{sign}{whole}{point}{rest if point else ''}",
    st.sampled_from(("", "", "-", "+")), DIGITS, st.sampled_from(("", ".")), DIGITS,
)  # fmt: skip
KINDS = (
    Field("n", "integer"),
    Field("n", "integer", bits=16),
    Field("n", "number"),
    Field("n", "number", precision=15, scale=2),
    Field("n", "number", precision=38, scale=9),
)


@given(st.lists(NUMBERS, min_size=1, max_size=20), st.sampled_from(KINDS))
@example(["01234"], KINDS[0])
@example(["350000000000000000000000000000"], KINDS[4])
@example(["3402823669209384634633746074317682114.56"], KINDS[3])
@example(["0.1", "0.30000000000000004", "123456789.123456789123"], KINDS[2])
def test_what_a_number_takes_is_the_number_that_was_written(
    values: list[str], field: Field
) -> None:
    found, misfit = convert_text(pa.array(values, pa.string()), field)
    for text, value, bad in zip(values, found.to_pylist(), misfit.tolist(), strict=True):
        assert bad == (value is None)
        if bad:
            continue
        exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
        assert exact == Decimal(text), f"{text} became {value}"
        digits = text.lstrip("+-").partition(".")[0]
        assert digits == "0" or not digits.startswith("0"), f"{text} lost its zeros"


def test_decimals_that_128_bits_do_not_hold_are_faults_in_every_format(tmp_path: Path) -> None:
    wraps = "3402823669209384634633746074317682114.56"
    fields = (Field("n", "number", precision=9, scale=2),)
    for name, form, text in (
        ("a.csv", "csv", f"n\n1.50\n{wraps}\n2.5\n"),
        ("a.jsonl", "jsonl", f'{{"n": 1.5}}\n{{"n": {wraps}}}\n{{"n": 2.5}}\n'),
    ):
        (tmp_path / name).write_text(text)
        layout = Layout("a", Dialect() if form == "csv" else LINES, fields, form)
        (parsed,) = read_parsed(tmp_path / name, "none", layout)
        assert [float(value) for value in parsed.table.column(0).to_pylist()] == [1.5, 2.5]
        assert len(parsed.faults) == 1


@given(st.lists(NUMBERS, min_size=1, max_size=30))
def test_a_guessed_type_takes_every_value_it_was_guessed_from(values: list[str]) -> None:
    field = guess_field("n", values, whole=True).field
    found, misfit = convert_text(pa.array(values, pa.string()), field)
    assert not misfit.any(), (field, values)
    for text, value in zip(values, found.to_pylist(), strict=True):
        if field.type == "string":
            assert value == text
        else:
            assert Decimal(str(value)) == Decimal(text)


@given(st.lists(st.text(max_size=90), min_size=1, max_size=12), st.integers(0, 3))
def test_settled_names_can_be_columns_of_any_engine(cells: list[str], more: int) -> None:
    names, notes = settled_names(cells, len(cells) + more)
    assert len(names) == len(cells) + more
    assert len({name.lower() for name in names}) == len(names)
    for name in names:
        assert name == " ".join(name.split())
        assert 0 < len(name.encode()) <= LONGEST_NAME + 4
        assert all(mark.isprintable() for mark in name)
    settled = settled_names(names, len(names))
    assert settled[0] == names or any("longer" in note for note in [*notes, *settled[1]])


def test_other_ways_of_writing_numbers_are_read_strictly() -> None:
    german = Field("n", "number", precision=9, scale=2, decimal_char=",", group_char=".")
    texts = ["1.234,50", "1234,5", "12.34,5", "1,234.5", "-7", None]
    values, misfit = convert_text(pa.array(texts), german)
    assert [None if v is None else float(v) for v in values.to_pylist()] == [
        1234.5, 1234.5, None, None, -7.0, None,
    ]  # fmt: skip
    assert misfit.tolist() == [False, False, True, True, False, False]
    signed = Field("n", "number", precision=9, scale=2, bare_number=False, brackets=True)
    values, misfit = convert_text(pa.array(["$5.50", "(2.25)", "12 %", "five"]), signed)
    assert [None if v is None else float(v) for v in values.to_pylist()] == [5.5, -2.25, 12, None]
    assert misfit.tolist() == [False, False, False, True]


def test_moments_with_a_zone_are_stored_in_utc() -> None:
    guess = guess_field("at", ["2031-05-06T10:00:00+02:00", "2031-05-06T08:00:00Z"])
    values, misfit = convert_text(
        pa.array(["2031-05-06T10:00:00+02:00", "2031-05-06T08:00:00Z", "2031-05-06T08:00:00"]),
        guess.field,
    )
    assert misfit.tolist() == [False, False, True]
    assert str(values[0].as_py()) == str(values[1].as_py()) == "2031-05-06 08:00:00"
    for form, text in (("epoch", "1900000000"), ("epoch-ms", "1900000000000")):
        values, _ = convert_text(pa.array([text]), Field("at", "datetime", form))
        assert str(values[0].as_py()) == "2030-03-17 17:46:40"


@given(st.text("0123456789./x,\n", max_size=200))
def test_long_runs_of_digits_are_found_wherever_they_stand(text: str) -> None:
    assert has_long_digits(Bitmaps(text.encode())) == (re.search("[./0-9]{16}", text) is not None)


@given(st.text('01.5-+ \t,\n"x', max_size=60))
def test_padded_fields_are_found_wherever_they_stand(text: str) -> None:
    # Behind several blanks anything may come, so that it is looked at as well.
    surely = re.search(r"(?:^|[,\n])\"?(?:[-+ \t]?|[ \t]+[-+]?)0[0-9]", text) is not None
    perhaps = surely or re.search(r"(?:^|[,\n])\"?[ \t][-+ \t]", text) is not None
    bits = Bitmaps(text.encode())
    assert surely <= has_padded(bits, Dialect()) <= perhaps
    # What is not looked at more closely has neither.
    hexadecimal = re.search(r"(?:^|[,\n])\"?[-+ \t]*0[xX]", text) is not None
    assert has_odd_start(bits, Dialect()) >= (surely or hexadecimal)
    assert has_hex(bits) == ("0x" in text)
    # The same fields parted by tabs.
    parted = text.replace("\t", "").replace(",", "\t")
    tabs = Bitmaps(parted.encode())
    again = re.search(r"(?:^|[\t\n])\"?(?:[-+ ]?| +[-+]?)0[0-9]", parted) is not None
    assert has_padded(tabs, Dialect(delimiter="\t")) >= again


@pytest.mark.parametrize("before", ["", " ", "\t", " \t", "+", "\t-"])
def test_zeros_before_a_number_are_never_lost(tmp_path: Path, before: str) -> None:
    path = tmp_path / "padded.csv"
    path.write_text(f"n,level\n1,2.5\n{before}007,3.5\n4,{before}08.5\n")
    layout = Layout("a", Dialect(), (Field("n", "integer"), Field("level", "number")))
    (parsed,) = read_parsed(path, "none", layout)
    assert parsed.table.to_pylist() == [{"n": 1, "level": 2.5}]
    assert [fault.field for fault in parsed.faults] == ["n", "level"]


def test_lengths_of_time_are_read_as_seconds_by_choice() -> None:
    field = Field("took", "number", "duration", precision=12, scale=3)
    texts = ["26:15:00", "1:02", "PT1H30M", "P1DT0.5S", "-0:00:01", "1:99:00", "P", "soon", None]
    values, misfit = convert_text(pa.array(texts), field)
    assert [None if v is None else float(v) for v in values.to_pylist()] == [
        94500, 62, 5400, 86400.5, -1, None, None, None, None,
    ]  # fmt: skip
    assert misfit.tolist() == [False] * 5 + [True] * 3 + [False]


def test_day_and_month_are_told_by_other_fields_and_by_the_series() -> None:
    months = [f"{month}/1/{year}" for year in (2030, 2031) for month in range(1, 13)]
    assert guess_field("at", months).field.format == "%m/%d/%Y"
    days = [f"{day}/1/2031" for day in range(1, 13)]
    fields = [guess_field("at", [f"3/{day}/2031"]).field for day in (4, 25)]
    settled = settle_day_first(fields, [["3/4/2031"], ["3/25/2031"]])
    assert [field.format for field in settled] == ["%m/%d/%Y", "%m/%d/%Y"]
    assert "fits both" in " ".join(guess_field("at", days).notes)


SCALARS = st.one_of(
    st.none(), st.booleans(), st.integers(-99, 99), st.text('ab"\\,[]{}\n é', max_size=6)
)
VALUES = st.recursive(
    SCALARS,
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=3), inner, max_size=3)
    ),
    max_leaves=8,
)


@given(
    st.lists(st.dictionaries(st.text("ab", max_size=2), VALUES, max_size=3), max_size=5),
    st.sampled_from((None, 1)),
    st.sampled_from(("array", "\n", "", " \r\n ")),
    st.sampled_from((1, 2, 3, 7, 1000)),
)
def test_json_of_any_shape_is_a_value_a_line(
    records: list[dict[str, Any]], indent: int | None, between: str, size: int
) -> None:
    given_as = "array" if between == "array" else "values"
    text = json.dumps(records, indent=indent)
    if given_as == "values":
        text = between.join(json.dumps(record, indent=indent) for record in records)
    data = text.encode()
    blocks = (data[at : at + size] for at in range(0, len(data), size))
    lines = b"".join(json_values(blocks, given_as)).split(b"\n")
    assert [json.loads(line) for line in lines if line.strip()] == records
