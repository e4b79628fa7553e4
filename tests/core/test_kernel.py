"""The kernel does what the same code in Python does, to the letter, whatever the bytes are."""

from __future__ import annotations

import os
import sqlite3
import tempfile
from collections.abc import Iterator
from datetime import date, datetime, time
from decimal import Decimal
from pathlib import Path
from typing import Any
from zlib import crc32

import pyarrow as pa
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from splarn.core import kernel
from splarn.core.lake.columns import row_sum
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.reading import text_parser
from splarn.core.records import bitmaps
from splarn.core.records.chunks import record_chunks
from splarn.core.target.digest import digest_table
from splarn.engines.sql.tabbed import tabbed
from splarn.engines.sqlite.image import image, image_of
from tests.plain import without_kernel

pytestmark = pytest.mark.skipif(not kernel.available(), reason="Splarn was built without a kernel")


FIELDS = st.sampled_from(
    [
        Field("a", "integer", bits=16), Field("a", "integer", bits=32), Field("a", "integer"),
        Field("a", "number"), Field("a", "number", precision=9, scale=2),
        Field("a", "number", precision=18, scale=0), Field("a", "number", precision=38, scale=20),
        Field("a", "number", precision=3, scale=3), Field("a", "boolean"), Field("a", "date"),
        Field("a", "datetime"), Field("a", "time"), Field("a", "string"), Field("a", "any"),
        Field("a", "string", format="uuid"), Field("a", "date", format="%d/%m/%Y"),
        Field("a", "boolean", true_values=("yes",), false_values=("no",)),
        Field("a", "integer", required=True), Field("a", "string", required=True),
        Field("a", "number", precision=9, scale=2, decimal_char=",", group_char="."),
        Field("a", "integer", minimum="0"), Field("a", "string", null_markers=("n/a", "-")),
        Field("a", "datetime", format="epoch"), Field("a", "object"),
    ]
)  # fmt: skip
# Values of every type in the plain form, in others that are read, and in such that are not.
_VALUES = """0 1 -1 +1 -0 007 12 32767 32768 -32768 2147483648 9223372036854775807
    9223372036854775808 -9223372036854775808 99999999999999999999 1.5 -1.50 1. .5 0.5 00.5 -0.0
    1e5 1E-3 1234567.89 12345678.90 1.234 0.1234567890123456 123456789012345.6 12345678901234567
    inf nan 0x1F 1_000 0.125 0.999 true True TRUE false t yes no 2031-05-01 2031-02-29
    2032-02-29 2031-2-1 0000-01-01 0001-01-01 9999-12-31 10000-01-01 31/12/2031 30/02/2031
    2031-05-01T06:07:08 2031-05-01T06:07:08.5 2031-05-01T06:07:08.123456
    2031-05-01T06:07:08.1234567 2031-05-01T06:07:60 2031-05-01T24:00:00 2031-05-01T06:07
    2031-05-01T06:07:08Z 06:07:08 6:07:08 06:07:08.25 25:00:00 1.234,56 -1,5 n/a - NULL {}
    {"a":1} 1924992000 0f8fad5b-d9cb-469f-a165-70867728950e"""
VALUES = st.sampled_from(_VALUES.split()) | st.sampled_from(
    ["", " ", " 1", "1 ", "2031-05-01 06:07:08", "a b", "é", "€😀", "x" * 70]
)
WORDS = VALUES.map(str.encode) | st.sampled_from(
    [b'say "no"', b'"', b'""', b"a\rb", b"\r", b"\0", b"\xff", b"\xc3", b"a,b;c|d\te",
     b"\xed\xa0\x80", b"line\nbreak", b"x" * 300]
)  # fmt: skip


# Room for no digit before the point; a zero there is none.
ALL_FRACTION = Field("a", "number", precision=3, scale=3)


@st.composite
def tables(draw: Any) -> tuple[Layout, bytes]:
    fields = draw(st.lists(FIELDS, min_size=1, max_size=5))
    fields = [Field(**{**field.__dict__, "name": f"f{n}"}) for n, field in enumerate(fields)]
    dialect = Dialect(
        delimiter=draw(st.sampled_from([",", ";", "\t", "|", "||"])),
        quote=draw(st.sampled_from(['"', '"', "'", None])),
        header=False,
        encoding=draw(st.sampled_from(["utf-8", "utf-8", "latin-1"])),
        null_markers=draw(st.sampled_from([("",), ("", "NULL"), ("-",), ()])),
        trim=draw(st.sampled_from([False, False, False, True])),
        fill=draw(st.sampled_from([False, False, True])),
        escape=draw(st.sampled_from([None, None, None, "\\"])),
    )
    mark, quote = dialect.delimiter.encode(), (dialect.quote or "").encode()
    # Mostly rows that fit, so that a few that do not stand among others.
    good = [draw(st.lists(WORDS, min_size=1, max_size=4)) for _ in fields]
    lines = []
    for _ in range(draw(st.integers(1, 30))):
        width = len(fields) if draw(st.integers(0, 9)) else draw(st.integers(0, len(fields) + 1))
        cells = []
        for place in range(width):
            cell = draw(st.sampled_from(good[place % len(good)]) | WORDS)
            if quote and draw(st.integers(0, 5)) == 0:
                cell = quote + cell.replace(quote, quote * 2) + quote
            cells.append(cell)
        lines.append(mark.join(cells) + draw(st.sampled_from([b"\n", b"\n", b"\n", b"\r\n"])))
    data = b"".join(lines)
    return Layout("t", dialect, tuple(fields)), data.rstrip(b"\n") if draw(st.booleans()) else data


def parsed(layout: Layout, data: bytes, size: int) -> list[Any]:
    parser = text_parser(layout, "passages.csv")
    found = []
    for chunk in record_chunks([data], layout.dialect, size, where="passages.csv", offset=1):
        one = parser.parse(chunk)
        found.append((one.row, one.rows, one.end, one.good.tolist(), one.faults, one.table))
    return found


@settings(max_examples=100)
@given(tables(), st.sampled_from([40, 400, 1 << 20]))
@example((Layout("t", Dialect(header=False), (Field("a"),)), b"1\n\n2\n\xff\n3\n"), 1 << 20)
@example((Layout("t", Dialect(header=False), (ALL_FRACTION,)), b'"0",1\n"0"\n.5\n-0.25\n1\n'), 40)
def test_records_are_read_as_without_it(made: tuple[Layout, bytes], size: int) -> None:
    layout, data = made
    with_it = parsed(layout, data, size)
    with without_kernel():
        assert with_it == parsed(layout, data, size)


@settings(max_examples=100)
@given(
    st.text(st.sampled_from('ab,;"\n\n\r'), max_size=400).map(str.encode),
    st.sampled_from([Dialect(), Dialect(quote=None), Dialect(delimiter=";"), Dialect("||")]),
    st.booleans(),
)
def test_records_end_where_they_do_without_it(data: bytes, dialect: Dialect, quoted: bool) -> None:
    found = kernel.tally(data, dialect, quoted, True)
    with without_kernel():
        expected = bitmaps.tally(data, dialect, quoted)
    if expected is None or found is None:
        assert expected is None and found is None
        return
    assert found[:5] == (
        expected.rows, expected.first_end, expected.last_end, expected.quoted, expected.blank
    )  # fmt: skip
    assert found.ends.tolist() == expected.ends.positions().tolist()
    assert found.lines == data[: found.last_end].count(b"\n")


MOMENTS = st.datetimes(datetime(1, 1, 1), datetime(9999, 12, 31, 23, 59, 59))
TEXTS = st.text(st.characters(exclude_categories=("Cs",), exclude_characters="\0"), max_size=40)
COLUMNS = {
    "whole": (Field("whole", "integer"), st.integers(-(1 << 63), (1 << 63) - 1)),
    "small": (Field("small", "integer", bits=16), st.integers(-(1 << 15), (1 << 15) - 1)),
    "price": (
        Field("price", "number", precision=11, scale=2),
        st.integers(-(10**11) + 1, 10**11 - 1).map(lambda n: Decimal(n).scaleb(-2)),
    ),
    "long": (
        Field("long", "number", precision=30, scale=9),
        st.integers(-(10**30) + 1, 10**30 - 1).map(lambda n: Decimal(f"{n}e-9")),
    ),
    "share": (Field("share", "number"), st.floats(allow_nan=False)),
    "open": (Field("open", "boolean"), st.booleans()),
    "day": (Field("day", "date"), st.dates(date(1, 1, 1), date(9999, 12, 31))),
    "at": (Field("at", "datetime"), MOMENTS | MOMENTS.map(lambda at: at.replace(microsecond=0))),
    "hour": (Field("hour", "time"), st.times() | st.builds(time, st.integers(0, 23))),
    "note": (Field("note", "string"), TEXTS | st.sampled_from(["\\", "a\tb", "\r\n", ""])),
}
LAYOUT = Layout("t", Dialect(), tuple(field for field, _ in COLUMNS.values()))


@st.composite
def typed(draw: Any) -> Any:
    rows = draw(st.lists(st.tuples(*(st.none() | v for _, v in COLUMNS.values())), max_size=20))
    columns = zip(*rows, strict=True) if rows else [[] for _ in COLUMNS]
    arrays = [
        pa.array(list(values), field.arrow_type())
        for values, field in zip(columns, LAYOUT.fields, strict=True)
    ]
    table = pa.table(arrays, list(COLUMNS))
    first = draw(st.integers(0, len(table)))
    return table.slice(first, draw(st.integers(0, len(table) - first)))


@settings(max_examples=60)
@given(typed())
def test_rows_have_the_figures_and_the_text_that_they_have_without_it(table: Any) -> None:
    few = table.drop_columns(["long"])
    digests, lines = digest_table(table, LAYOUT.fields), tabbed(few, "1", "0")
    hashed = kernel.text_hashes(len(table), _sources(table))
    with without_kernel():
        for mine, theirs in zip(digests, digest_table(table, LAYOUT.fields), strict=True):
            assert mine.differences(theirs) == []
        assert lines == tabbed(few, "1", "0")
        cells = [tabbed(table.select([name]), "1", "0").split(b"\n")[:-1] for name in PLAIN]
    rows = zip(*cells, strict=True)
    null = [b"\xfe" if cell == b"\\N" else cell for row in rows for cell in row]
    width = len(PLAIN)
    expected = sum(crc32(b"\xff".join(null[at : at + width])) for at in range(0, len(null), width))
    assert hashed == expected


PLAIN = ("whole", "price", "day", "open")


def _sources(table: Any) -> list[kernel.Source]:
    kinds = {"whole": (kernel.INTEGER, 64), "price": (kernel.DECIMAL, 2 << 8 | 2),
             "day": (kernel.DATE, 0), "open": (kernel.BOOLEAN, 0)}  # fmt: skip
    return [kernel.source_of(*kinds[name], table.column(name).combine_chunks()) for name in PLAIN]


CELLS = st.lists(
    st.tuples(
        st.none() | st.integers(-(1 << 63), (1 << 63) - 1),
        st.none() | st.floats(allow_nan=False) | st.integers(-99, 99).map(float),
        st.none() | TEXTS | TEXTS.map(lambda text: text * 200),
    ),
    min_size=1,
    max_size=300,
)


@settings(max_examples=30)
@given(CELLS, st.sampled_from([512, 4096, 65536]), st.booleans(), st.data())
def test_rows_in_a_file_have_the_hashes_that_sqlite_tells(
    rows: list[tuple[Any, ...]], page: int, keyed: bool, data: Any
) -> None:
    with_key = " INTEGER PRIMARY KEY" if keyed else ""
    if keyed:
        rows = [(number * 3 - 50, *row[1:]) for number, row in enumerate(rows)]
    handle, name = tempfile.mkstemp(suffix=".db", dir=os.environ["PYTEST_SCRATCH"])
    os.close(handle)
    path = Path(name)
    connection = sqlite3.connect(path, isolation_level=None)
    connection.execute(f"PRAGMA page_size = {page}")
    connection.execute(f"CREATE TABLE t (a{with_key}, b REAL, c TEXT)")
    connection.execute("BEGIN")
    connection.executemany("INSERT INTO t VALUES (?, ?, ?)", rows)
    connection.execute("COMMIT")
    root = connection.execute("SELECT rootpage FROM sqlite_master").fetchone()[0]
    connection.create_function("h", -1, kernel.cell_hash)
    first = data.draw(st.integers(-60, 300))
    with path.open("rb") as file:
        for low, high in ((-(1 << 63), (1 << 63) - 1), (first, first + 70)):
            found = kernel.sqlite_hashes(
                file.fileno(), root, page, page, 3, 0 if keyed else -1, (2, 0, 1), low, high
            )
            expected = connection.execute(
                "SELECT count(*), total(h(c, a, b)) FROM t WHERE rowid BETWEEN ? AND ?",
                (low, high),
            ).fetchone()
            assert found == expected
    columns = list(zip(*rows, strict=True))
    sources = [
        kernel.source_of(kind, argument, pa.array(list(column), arrow))
        for (kind, argument, arrow), column in zip(
            ((kernel.TEXT, 0, pa.string()), (kernel.INTEGER, 64, pa.int64()),
             (kernel.FLOAT, 0, pa.float64())),
            (columns[2], columns[0], columns[1]),
            strict=True,
        )
    ]  # fmt: skip
    every = connection.execute("SELECT total(h(c, a, b)) FROM t").fetchone()[0]
    assert kernel.cell_hashes(len(rows), sources) == every
    connection.close()
    _spoil(path, root, page, data)
    path.unlink()


def _spoil(path: Path, root: int, page: int, data: Any) -> None:
    """A file whose bytes are any others is read to an end, or told to be none."""
    content = bytearray(path.read_bytes())
    for _ in range(data.draw(st.integers(1, 6))):
        at = data.draw(st.integers(min(page, len(content) - 1), len(content) - 1))
        content[at] = data.draw(st.integers(0, 255))
    path.write_bytes(bytes(content))
    with path.open("rb") as file:
        kernel.sqlite_hashes(
            file.fileno(), root, page, page, 3, 0, (0, 1, 2), -(1 << 63), (1 << 63) - 1
        )


@pytest.fixture(autouse=True, scope="module")
def scratch(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    os.environ["PYTEST_SCRATCH"] = str(tmp_path_factory.mktemp("kernel"))
    yield
    del os.environ["PYTEST_SCRATCH"]


@settings(max_examples=60)
@given(typed())
def test_an_image_holds_the_same_rows_as_without_it(table: Any) -> None:
    arrays = [table.column(name).combine_chunks() for name in ("whole", "share", "note")]
    statement = "CREATE TABLE r(a INT, b NUMERIC, c TEXT)"
    with without_kernel():
        plain = image(statement, arrays, [False, True, False]) if len(table) else None
    kinds = ((kernel.INTEGER, 64), (kernel.FLOAT, 1 << 8), (kernel.TEXT, 0))
    made = image_of(
        statement, len(table),
        [kernel.source_of(*kind, array) for kind, array in zip(kinds, arrays, strict=True)],
    )  # fmt: skip
    assert (plain is None) == (made is None)
    if made is None or plain is None:
        return
    held = []
    for bytes_ in (plain, made):
        connection = sqlite3.connect(":memory:")
        connection.deserialize(bytes_)
        assert connection.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        held.append(connection.execute("SELECT *, typeof(b) FROM r").fetchall())
        connection.close()
    assert held[0] == held[1]


CELLS = {
    "integer": (pa.int64(), st.integers(-(1 << 63), (1 << 63) - 1)),
    "short": (pa.int16(), st.integers(-(1 << 15), (1 << 15) - 1)),
    "float": (pa.float64(), st.floats(allow_nan=False)),
    "boolean": (pa.bool_(), st.booleans()),
    "decimal": (pa.decimal128(38, 2), st.decimals(-(10**30), 10**30, places=2)),
    "day": (pa.date32(), st.dates()),
    "words": (pa.string(), st.text(max_size=20)),
}


@given(st.data())
def test_hashes_of_values_tell_rows_apart_and_nothing_else(data: st.DataObject) -> None:
    names = data.draw(st.lists(st.sampled_from(sorted(CELLS)), min_size=1, max_size=4, unique=True))
    rows = data.draw(
        st.lists(st.tuples(*(st.none() | CELLS[name][1] for name in names)), max_size=12)
    )

    def total(some: list[Any], lead: int = 0) -> int:
        before = [tuple(None for _ in names)] * lead
        table = pa.table({
            name: pa.array([row[at] for row in [*before, *some]], CELLS[name][0])
            for at, name in enumerate(names)
        })  # fmt: skip
        found = row_sum(table.slice(lead))
        assert found is not None
        assert found.rows == len(some)
        return found.total

    every = total(rows)
    # In whatever order and pieces, and wherever in memory.
    mixed = data.draw(st.permutations(rows))
    cut = data.draw(st.integers(0, len(rows)))
    assert total(mixed[:cut]) + total(mixed[cut:], lead=3) == every
    if rows:
        # One other cell, or one that is empty, is another sum.
        at = data.draw(st.integers(0, len(rows) - 1))
        place = data.draw(st.integers(0, len(names) - 1))
        other = data.draw(st.none() | CELLS[names[place]][1])
        changed = [*rows]
        changed[at] = (*rows[at][:place], other, *rows[at][place + 1 :])
        assert (total(changed) == every) == (other == rows[at][place])
        assert total([*rows, rows[at]]) != every


def test_hashes_of_values_know_their_columns() -> None:
    one, other = (pa.table({"a": [a], "b": [b]}) for a, b in ((1, 2), (2, 1)))
    assert row_sum(one) != row_sum(other)
    parts = [pa.table({"a": [a], "b": [b]}) for a, b in (("lock", "house"), ("lockh", "ouse"))]
    assert row_sum(parts[0]) != row_sum(parts[1])
