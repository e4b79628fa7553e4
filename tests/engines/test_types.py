"""Every type of field in every target: the table made for it, and its values back as they went."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any
from uuid import UUID

import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from splarn.core.errors import OutsideError, RefusedError, RequestError
from splarn.core.layout import LINES, Dialect, Field, Layout
from splarn.core.load import BadRows, LoadRequest, inputs_from_files, load, undo
from splarn.core.reading import read_parsed
from splarn.core.reading.text import delimited, json_lines
from splarn.core.target.digest import digest_table
from splarn.core.work.pool import Inline
from splarn.core.work.pools import Pools
from splarn.engines import open_engine, opener
from splarn.engines.sql.halves import HalvedDigests
from splarn.engines.sql.tabbed import tabbed
from tests.conftest import ask

FIELDS = (
    Field("n", "integer", required=True),
    Field("small", "integer", bits=16),
    Field("medium", "integer", bits=32),
    Field("large", "integer"),
    Field("level", "number"),
    Field("toll", "number", precision=12, scale=3),
    Field("exact", "number", precision=30, scale=10),
    Field("open", "boolean"),
    Field("at", "datetime"),
    Field("day", "date"),
    Field("clock", "time"),
    Field("note"),
    Field("short", max_length=9),
    Field("key", format="uuid"),
    Field("site", "object"),
    Field("list", "array"),
)
LAYOUT = Layout("kinds", Dialect(header=False), FIELDS)
KEY = "0f5e3c6a-8d2b-4c1e-9f7a-1b2c3d4e5f60"
ROWS: list[dict[str, Any]] = [
    {
        "n": 1,
        "small": -32768,
        "medium": 2**31 - 1,
        "large": -(2**63),
        "level": 1.5e-7,
        "toll": Decimal("123456789.125"),
        "exact": Decimal("12345678901234567890.0123456789"),
        "open": True,
        "at": datetime(1969, 12, 31, 23, 59, 59, 250000),
        "day": date(9999, 12, 31),
        "clock": time(23, 59, 59, 999999),
        "note": 'a "b",\tc\\d\r\n\\.\n\x01 é😀 ',
        "short": "é" * 9,
        "key": KEY,
        "site": '{"lock": {"no": [1, "x\\n"]}}',
        "list": '["a\\tb", null]',
    },
    {"n": 2},
    {"n": 3, "note": "", "open": False, "level": -1e300, "toll": Decimal("-0.001")},
]


def source(folder: Path, rows: list[dict[str, Any]], layout: Layout) -> Path:
    """The rows as a file of the layout's format."""
    table = pa.Table.from_pylist(rows, schema=layout.arrow_schema)
    path = folder / f"kinds.{layout.format}"
    writer = json_lines if layout.format == "jsonl" else delimited
    path.write_bytes(writer(table, layout))
    return path


def plain(value: Any, field: Field) -> Any:
    """A value as any engine's driver gives it, in one form."""
    if value is None:
        return None
    if field.is_json:
        return value if not isinstance(value, str) else json.loads(value)
    if field.type == "boolean":
        return bool(value)
    if field.is_decimal:
        return Decimal(str(value))
    if isinstance(value, str) and field.type in ("datetime", "date", "time"):
        return {"datetime": datetime, "date": date, "time": time}[field.type].fromisoformat(value)
    if isinstance(value, timedelta):
        return (datetime.min + value).time()
    return str(value) if isinstance(value, UUID) else value


@pytest.mark.parametrize("format_", ["csv", "jsonl"])
def test_values_of_every_type_come_back(
    target: str, table: str, tmp_path: Path, format_: str
) -> None:
    layout = LAYOUT if format_ == "csv" else Layout("kinds", LINES, FIELDS, "jsonl")
    path = source(tmp_path, ROWS, layout)
    (parsed,) = read_parsed(path, "none", layout)
    assert not parsed.faults
    wanted = LoadRequest(opener(target), table, layout, inputs_from_files([path], layout))
    record = load(wanted, Inline())
    assert (record.rows_loaded, record.verified, record.differences) == (3, True, ())
    names = ", ".join(f'"{f.name}"' if "mariadb" not in target else f"`{f.name}`" for f in FIELDS)
    for found, row in zip(
        ask(target, f"SELECT {names} FROM {table} ORDER BY n"), ROWS, strict=True
    ):
        for field, value in zip(FIELDS, found, strict=True):
            expected = plain(row.get(field.name), field)
            if field.type == "datetime" and "sqlite" in target and expected is not None:
                assert plain(value, field) == expected
            else:
                assert plain(value, field) == expected, field.name
    session = open_engine(target).connect()
    digests = session.digests.of_columns(table, FIELDS)
    session.close()
    assert digests == digest_table(parsed.table, FIELDS) or not [
        difference
        for mine, theirs in zip(digests, digest_table(parsed.table, FIELDS), strict=True)
        for difference in mine.differences(theirs)
    ]


@pytest.mark.parametrize(
    ("engine", "expected"),
    [
        ("sqlite", {"small": "SMALLINT", "exact": "DECIMAL_TEXT", "short": "VARCHAR(9)"}),
        ("duckdb", {"large": "BIGINT", "key": "UUID", "site": "JSON", "note": "VARCHAR"}),
        (
            "postgresql",
            {"small": "SMALLINT", "medium": "INTEGER", "level": "DOUBLE PRECISION", "key": "UUID",
             "site": "JSON", "toll": "NUMERIC(12, 3)", "short": "VARCHAR(9)"},
        ),
        (
            "mariadb",
            {"at": "DATETIME(6)", "clock": "TIME(6)", "key": "CHAR(36)", "short": "VARCHAR(9)",
             "note": "LONGTEXT", "open": "BOOL"},
        ),
    ],
)  # fmt: skip
def test_the_tables_types_fit_the_fields(engine: str, expected: dict[str, str]) -> None:
    statement = open_engine(f"{engine}://").ddl("kinds", LAYOUT)
    lines = [re.sub(r'["`]', "", line).strip().rstrip(",") for line in statement.splitlines()]
    columns = {line.split(" ", 1)[0]: line for line in lines if " " in line}
    assert columns["n"].endswith("NOT NULL")
    for name, kind in expected.items():
        assert columns[name] == f"{name} {kind}", columns[name]
    assert statement.endswith(";")


@pytest.mark.parametrize(
    ("change", "field", "value"),
    [
        ("note VARCHAR(5)", "note", "far too long"),
        ("small SMALLINT CHECK (small < 100)", "small", 101),
        ("small SMALLINT NOT NULL", "small", None),
    ],
)
def test_engines_refuse_rows_with_a_reason(
    target: str, table: str, tmp_path: Path, change: str, field: str, value: Any
) -> None:
    if "VARCHAR" in change and target.startswith(("sqlite", "duckdb")):
        change = f"{change.replace('VARCHAR(5)', 'VARCHAR')} CHECK (length(note) <= 5)"
    layout = Layout("few", Dialect(header=False), (FIELDS[0], FIELDS[1], FIELDS[11]))
    other = "small SMALLINT" if field == "note" else "note VARCHAR(20)"
    ask(target, f"CREATE TABLE {table} (n BIGINT NOT NULL, {change}, {other})", False)
    rows = [{"n": n, "small": 7, "note": "fine"} for n in range(200)]
    rows[77] = {**rows[77], field: value}
    path = source(tmp_path, rows, layout)
    wanted = LoadRequest(
        opener(target), table, layout, inputs_from_files([path], layout), table_mode="append",
        bad_rows=BadRows(), rejects=tmp_path / "bad",
    )  # fmt: skip
    record = load(wanted, Inline())
    assert (record.rows_loaded, record.rows_rejected, record.verified) == (199, 1, True)
    (fault,) = record.faults
    assert (fault.row, fault.line, fault.kind) == (78, 78, "engine")
    assert fault.message.startswith("refused by the engine: ")
    assert len(fault.message) > len("refused by the engine: ") + 8
    assert [row[0] for row in ask(target, f"SELECT n FROM {table} WHERE n = 77")] == []


def test_refusals_cross_between_processes(target: str, table: str, tmp_path: Path) -> None:
    import pickle

    refusal = pickle.loads(pickle.dumps(RefusedError("It was refused.", "too long")))
    assert (str(refusal), refusal.reason) == ("It was refused.", "too long")
    layout = Layout("few", Dialect(header=False), (FIELDS[0],))
    ask(target, f"CREATE TABLE {table} (n BIGINT NOT NULL UNIQUE)", False)
    paths = []
    for number in range(3):
        path = tmp_path / f"{number}.csv"
        path.write_text("".join(f"{n}\n" for n in range(number * 400, number * 400 + 500)))
        paths.append(path)
    inputs = inputs_from_files(paths, layout)
    wanted = LoadRequest(
        opener(target), table, layout, inputs, batch_rows=130, table_mode="append",
        bad_rows=BadRows(), rejects=tmp_path / "bad",
    )  # fmt: skip
    with Pools() as pools:
        record = load(wanted, pools.streams(2, open_engine(target)))
    assert (record.rows_loaded, record.rows_rejected, record.verified) == (1300, 200, True)
    assert ask(target, f"SELECT count(*), count(DISTINCT n) FROM {table}") == [(1300, 1300)]


TEXTS = st.none() | st.text(st.characters(exclude_characters="\0", codec="utf-8"), max_size=12)


@settings(
    max_examples=15,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(st.lists(st.tuples(TEXTS, TEXTS), min_size=1, max_size=12))
def test_any_text_goes_into_any_table(
    target: str, tmp_path: Path, rows: list[tuple[str | None, str | None]]
) -> None:
    layout = Layout("texts", Dialect(header=False), (Field("n", "integer"), Field("a"), Field("b")))
    table = "any_text"
    given_rows = [{"n": n, "a": a, "b": b} for n, (a, b) in enumerate(rows)]
    path = source(tmp_path, given_rows, layout)
    wanted = LoadRequest(
        opener(target), table, layout, inputs_from_files([path], layout), table_mode="empty",
        again=True,
    )  # fmt: skip
    assert load(wanted, Inline()).verified is True
    found = ask(target, f"SELECT a, b FROM {table} ORDER BY n")
    assert found == rows


def test_tabbed_text_escapes_what_it_must() -> None:
    table = pa.table(
        {
            "a": ["x\ty", None, "\\N", "a\r\nb"],
            "b": pa.array([True, False, None, True]),
            "c": pa.array([1.5, None, 2.0, -3.0]),
        }
    )
    assert tabbed(table, "1", "0") == (
        b"x\\ty\t1\t1.5\n\\N\t0\t\\N\n\\\\N\t\\N\t2\na\\r\\nb\t1\t-3\n"
    )


def test_a_duckdb_file_that_is_none_or_in_use_says_so(tmp_path: Path) -> None:
    (tmp_path / "notes.duckdb").write_text("no database, but a few words about locks" * 400)
    with pytest.raises(OutsideError, match="cannot be opened"):
        open_engine(f"duckdb:///{tmp_path / 'notes.duckdb'}").connect()
    with pytest.raises(RequestError, match="needs a file"):
        open_engine("duckdb://").connect()
    with pytest.raises(RequestError, match="does not exist"):
        open_engine(f"duckdb:///{tmp_path / 'nowhere' / 'x.duckdb'}").connect()
    one = open_engine(f"duckdb:///{tmp_path / 'a.duckdb'}")
    first, second = one.connect(), one.connect()
    assert first.tables.columns("nothing") is None
    first.close()
    assert second.tables.columns("nothing") is None
    second.close()


def test_digests_of_two_halves_are_those_of_the_whole(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also where numbers are missing or below zero, and where most of one half is gone."""
    path = tmp_path / "halved.csv"
    numbers = ["" if n % 11 == 0 else n for n in range(-200, 200)]
    path.write_text(
        "".join(f"{n},{len(str(n)) * 0.125},note {at % 7}\n" for at, n in enumerate(numbers))
    )
    fields = (Field("n", "integer"), Field("toll", "number", precision=9, scale=3), Field("note"))
    layout = Layout(table, Dialect(header=False), fields)
    inputs = inputs_from_files([path], layout)
    load(LoadRequest(opener(target), table, layout, inputs), Inline())
    both, asked = HalvedDigests._both, []

    def counted(self: HalvedDigests, *given: Any) -> Any:
        asked.append(given)
        return both(self, *given)

    monkeypatch.setattr(HalvedDigests, "_both", counted)
    for gone in ("1 = 0", "n IN (1, 2, 3) OR n IS NULL", "n > -150"):
        ask(target, f"DELETE FROM {table} WHERE {gone}", rows=False)
        found = []
        for worth in (10**9, 1):
            monkeypatch.setattr(HalvedDigests, "worth_two", worth)
            session = open_engine(target).connect()
            try:
                whole = session.tables.canonical(table)
                figures = session.digests.of_columns(whole, fields)
                before = session.digests.fingerprint(whole)
                # What is not committed yet is seen by none but its own connection.
                session.rows.link.begin()
                session.rows.link.run(f"UPDATE {table} SET note = 'changed' WHERE n < 0")
                changed = session.digests.fingerprint(whole)
                session.rollback()
                found.append((figures, before, changed))
                assert changed != before
            finally:
                session.close()
        assert found[0] == found[1]
    assert bool(asked) == isinstance(session.digests, HalvedDigests)


@pytest.fixture
def keeping_other_text(request: pytest.FixtureRequest, tmp_path: Path, table: str) -> Iterator[str]:
    """A target that keeps text in another encoding than UTF-8, its table made where it must be."""
    kind = request.param
    if kind == "sqlite":
        file = tmp_path / "wide.db"
        with closing(sqlite3.connect(file)) as made:
            made.execute("PRAGMA encoding = 'UTF-16le'")
            made.execute("CREATE TABLE other (n INTEGER)")
        yield f"sqlite:///{file}"
    elif kind == "postgresql":
        url = request.getfixturevalue("postgresql")
        name = f"latin_{table}"
        how = f"CREATE DATABASE {name} TEMPLATE template0 ENCODING 'LATIN1' LC_COLLATE 'C'"
        autocommit(url, f"{how} LC_CTYPE 'C'")
        yield f"{url.rpartition('/')[0]}/{name}"
        autocommit(url, f"DROP DATABASE {name}")
    else:
        url = request.getfixturevalue("mariadb")
        ask(url, f"CREATE TABLE {table} (n BIGINT, note TEXT CHARACTER SET latin1, at DATETIME(6))",
            False)  # fmt: skip
        yield url


def autocommit(url: str, statement: str) -> None:
    psycopg = pytest.importorskip("psycopg")
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(statement)


@pytest.mark.parametrize("keeping_other_text", ["sqlite", "postgresql", "mariadb"], indirect=True)
def test_text_and_moments_are_held_against_what_any_encoding_keeps(
    keeping_other_text: str, table: str, tmp_path: Path
) -> None:
    moments = [
        f"{year}-{day}.999999"
        for year in (1600, 1899, 1900, 1969, 1999, 2099, 2100, 2500, 9998)
        for day in ("01-01 00:00:00", "12-31 23:59:59", "06-30 12:00:01")
    ]
    path = tmp_path / "notes.csv"
    lines = [f"{n},Schleuse Süd é{n}ß,{moment}\n" for n, moment in enumerate(moments)]
    path.write_text("n,note,at\n" + "".join(lines))
    layout = Layout("notes", Dialect(), (Field("n", "integer"), Field("note"),
                                         Field("at", "datetime")))  # fmt: skip
    wanted = LoadRequest(
        opener(keeping_other_text), table, layout, inputs_from_files([path], layout),
        table_mode="append",
    )  # fmt: skip
    record = load(wanted, Inline())
    assert record.verified, record.differences
    (digest,) = (one for one in record.digests if one.name == "note")
    assert digest.sum == sum(len(line.split(",")[1].encode()) for line in lines)
    # The marks, or the fingerprint, are of the same rows.
    assert undo(opener(keeping_other_text), record.load_id).rows_removed == len(lines)
