"""The binary forms that engines take rows in hold the same rows as plain statements."""

from __future__ import annotations

import sqlite3
from contextlib import nullcontext
from datetime import date, datetime
from decimal import Context, Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from splarn.core import kernel
from splarn.engines.postgresql.binary import HEADER, TRAILER, can_encode, encode
from splarn.engines.postgresql.hashing import PostgresqlHasher, hash_expression
from splarn.engines.sqlite.image import image
from splarn.engines.sqlite.stored import StoredColumn, TableShape
from tests.plain import without_kernel

needs_kernel = pytest.mark.skipif(not kernel.available(), reason="Splarn has no kernel here")
TEXTS = st.text(st.characters(exclude_categories=("Cs",), exclude_characters="\0"), max_size=90)
INT64 = st.integers(-(1 << 63), (1 << 63) - 1)
FLOATS = st.floats(allow_nan=False, allow_infinity=False) | st.integers(-999, 999).map(float)
STAMPS = st.datetimes(datetime(1, 1, 1), datetime(9999, 12, 31))


def decimals(precision: int, scale: int) -> st.SearchStrategy[Decimal]:
    most = 10**precision - 1
    return st.integers(-most, most).map(lambda n: Decimal(n).scaleb(-scale, Context(prec=80)))


def rows_of(*columns: st.SearchStrategy[Any]) -> st.SearchStrategy[list[tuple[Any, ...]]]:
    return st.lists(st.tuples(*(st.none() | column for column in columns)), min_size=1, max_size=40)


@given(
    rows_of(INT64, TEXTS, FLOATS, FLOATS, st.integers(-130, 130)),
    st.integers(1, 400),
    st.booleans(),
)
def test_an_image_holds_what_inserts_would_store(
    rows: list[tuple[Any, ...]], times: int, plain: bool
) -> None:
    rows = (rows * times)[:4000]
    kinds = [pa.int64(), pa.string(), pa.float64(), pa.float64(), pa.int16()]
    columns = [
        pa.array(column, kind) for column, kind in zip(zip(*rows, strict=True), kinds, strict=True)
    ]
    names = [("a", "BIGINT"), ("b", "TEXT"), ("c", "NUMERIC(7, 2)"), ("d", "DOUBLE"), ("e", "INT")]
    shape = TableShape("t", [StoredColumn(*name, False) for name in names], [n for n, _ in names])
    with without_kernel() if plain else nullcontext():
        made = shape.image(pa.table(columns, [name for name, _ in names]))
    assert made is not None
    connection = sqlite3.connect(":memory:")
    declared = ", ".join(" ".join(name) for name in names)
    connection.execute(f"CREATE TABLE t ({declared})")
    connection.execute(f"CREATE TABLE plain ({declared})")
    connection.execute("ATTACH ':memory:' AS other")
    connection.deserialize(made, name="other")
    assert connection.execute("PRAGMA other.integrity_check").fetchall() == [("ok",)]
    connection.execute(shape.move_from("other"))
    connection.executemany("INSERT INTO plain VALUES (?, ?, ?, ?, ?)", rows)
    assert connection.execute("PRAGMA main.integrity_check").fetchall() == [("ok",)]
    look = "SELECT rowid, *, typeof(a), typeof(b), typeof(c), typeof(d), typeof(e) FROM "
    assert (
        connection.execute(look + "t").fetchall() == connection.execute(look + "plain").fetchall()
    )
    connection.close()


def test_images_of_many_pages_and_what_does_not_fit_into_one() -> None:
    statement = "CREATE TABLE r(a BIGINT, b TEXT)"
    many = [pa.array(range(60_000)), pa.array(["x" * (n % 700) for n in range(60_000)])]
    connection = sqlite3.connect(":memory:")
    made = image(statement, many, [False, False])
    assert made is not None
    connection.deserialize(made)
    assert connection.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
    # By the tree from the root on, and by number.
    assert connection.execute("SELECT length(b) FROM r WHERE rowid = 43209").fetchall() == [(508,)]
    assert connection.execute("SELECT count(*), sum(a), sum(length(b)) FROM r").fetchall() == [
        (60_000, sum(range(60_000)), sum(n % 700 for n in range(60_000)))
    ]
    connection.close()
    assert image(statement, [pa.array([1]), pa.array(["x" * 70_000])], [False, False]) is None
    wide = [pa.array([1])] * 130
    assert image("CREATE TABLE r(a)", wide, [False] * 130) is None


PG_TYPES = {
    "small": ("smallint", pa.int16(), st.integers(-(1 << 15), (1 << 15) - 1)),
    "big": ("bigint", pa.int64(), INT64),
    "price": ("numeric", pa.decimal128(9, 2), decimals(9, 2)),
    "long": ("numeric", pa.decimal128(16, 2), decimals(16, 2)),
    "wide": ("numeric", pa.decimal128(35, 9), decimals(35, 9)),
    "share": ("numeric", pa.decimal128(5, 5), decimals(5, 5)),
    "whole": ("numeric", pa.decimal128(6, 0), decimals(6, 0)),
    "level": ("double precision", pa.float64(), FLOATS),
    "yes": ("boolean", pa.bool_(), st.booleans()),
    "day": ("date", pa.date32(), st.dates(date(1, 1, 1), date(9999, 12, 31))),
    "at": ("timestamp without time zone", pa.timestamp("us"), STAMPS),
    "clock": ("time without time zone", pa.time64("us"), st.times()),
    "id": ("uuid", pa.string(), st.uuids().map(str)),
    "note": ("text", pa.string(), TEXTS),
}


@pytest.fixture(scope="module")
def connection(postgresql: str) -> Any:
    import psycopg

    with psycopg.connect(postgresql) as found:
        listed = ", ".join(f"{name} {kind}" for name, (kind, _, _) in PG_TYPES.items())
        found.execute(f"CREATE TEMPORARY TABLE plain ({listed})")
        yield found


ROWS = rows_of(*(values for _, _, values in PG_TYPES.values()))


def _copied(connection: Any, rows: list[tuple[Any, ...]], start: int, names: list[str]) -> Any:
    """What is to be copied, once it has been and all of it was found again."""
    places = [list(PG_TYPES).index(name) for name in names]
    rows = [tuple(row[place] for place in places) for row in rows]
    kinds = [PG_TYPES[name] for name in names]
    columns = [
        pa.array(column, kind)
        for column, (_, kind, _) in zip(zip(*rows, strict=True), kinds, strict=True)
    ]
    table, types = pa.table(columns, names).slice(start), [kind for kind, _, _ in kinds]
    assert can_encode(table.schema, types)
    data = encode(table, types)
    assert data is not None
    connection.execute("TRUNCATE plain")
    listed = ", ".join(names)
    with connection.cursor().copy(f"COPY plain ({listed}) FROM STDIN (FORMAT binary)") as copy:
        copy.write(HEADER + data + TRAILER)
    found = connection.execute(f"SELECT {listed} FROM plain").fetchall()
    place = names.index("id")
    assert [(*row[:place], row[place] and str(row[place]), *row[place + 1 :]) for row in found] == (
        rows[start:]
    )
    return table


@needs_kernel
@settings(max_examples=60)
@given(rows=ROWS, start=st.integers(0, 2))
def test_binary_rows_arrive_as_they_are_and_are_hashed_alike(
    connection: Any, rows: list[tuple[Any, ...]], start: int
) -> None:
    names, types = list(PG_TYPES), [kind for kind, _, _ in PG_TYPES.values()]
    table = _copied(connection, rows, start, names)
    hashed = PostgresqlHasher(names, types).sum_of(table)
    hashes = hash_expression(names, types)
    there = connection.execute(f"SELECT count(*), coalesce(sum({hashes}), 0) FROM plain")
    assert hashed is not None
    assert there.fetchone() == (hashed.rows, hashed.total)


@settings(max_examples=60)
@given(rows=ROWS, start=st.integers(0, 2))
def test_binary_rows_arrive_as_they_are_without_the_kernel(
    connection: Any, rows: list[tuple[Any, ...]], start: int
) -> None:
    with without_kernel():
        # Decimals of so many digits go as text then.
        _copied(connection, rows, start, [name for name in PG_TYPES if name != "wide"])


@needs_kernel
def test_numbers_that_do_not_fit_go_another_way() -> None:
    table = pa.table({"n": pa.array([1, 40_000])})
    assert encode(table, ["smallint"]) is None
    assert encode(table, ["integer"]) is not None
    assert encode(table.slice(0, 1), ["smallint"]) is not None
    schema = pa.schema([("n", pa.decimal128(38, 3))])
    assert not can_encode(schema, ["numeric"])
    assert not can_encode(pa.schema([("at", pa.string())]), ["citext"])
