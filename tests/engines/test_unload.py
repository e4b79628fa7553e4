"""Rows back out of every engine: what goes in comes out, once, in parts of any format."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import splarn as library
from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load.handed import ReadTask, read_part
from splarn.core.reading.text import delimited
from splarn.core.source.content import Identity
from splarn.core.source.source import Source
from splarn.core.target.digest import add_digests
from splarn.core.unload import unloader
from splarn.standin.both import standing_in
from splarn.standin.millrace.physics import EnginePhysics
from splarn.standin.physics import DepotPhysics
from tests.conftest import Splarn, also, ask
from tests.engines.lives import readings

FORMATS = ("csv", "jsonl", "parquet")
ODD = Layout(
    "odd",
    Dialect(header=False),
    (
        Field("no", "integer", required=True),
        Field("words"),
        Field("level", "number", precision=12, scale=3),
        Field("rate", "number"),
        Field("open", "boolean"),
        Field("day", "date"),
        Field("moment", "datetime"),
        Field("noon", "time"),
    ),
)
TEXTS = (
    "",
    'a "lock", upper\nand lower',
    "NULL",
    "\\N",
    "ä€\U0001f6a4",
    " ",
    "'; --",
    "tab\there",
    "0",
)


def odd_rows(count: int) -> pa.Table:
    """Rows of every type, with nulls and with texts that look like something else."""
    every = range(count)
    nulls = [None if n % 7 == 3 else n for n in every]
    columns = [
        list(every),
        [None if n % 11 == 5 else TEXTS[n % len(TEXTS)] for n in every],
        [None if n is None else Decimal(n * 37 - 500).scaleb(-3) for n in nulls],
        [None if n is None else n / 8 - 3 for n in nulls],
        [None if n % 5 == 4 else n % 2 == 0 for n in every],
        [None if n is None else 20_000 + n for n in nulls],
        [None if n is None else (1_900_000_000 + n * 7919) * 1_000_000 for n in nulls],
        [None if n is None else (n * 613 % 86_400) * 1_000_000 for n in nulls],
    ]
    kinds = ODD.arrow_schema.types
    # Arrow makes no day of a number by itself.
    columns[5] = pa.array(columns[5], pa.int32()).cast(kinds[5])
    arrays = [pa.array(values, kind) for values, kind in zip(columns, kinds, strict=True)]
    return pa.table(arrays, schema=ODD.arrow_schema)


def filled(home: Path, target: str, table: str, count: int = 3000) -> Any:
    """A table of odd rows in a target; the digests of what went in."""
    path, rows = home / f"{table}.csv", odd_rows(count)
    if "sluice" in target:
        # It does not tell an empty text from none.
        told = pc.if_else(pc.equal(rows.column("words"), ""), " ", rows.column("words"))
        rows = rows.set_column(1, "words", told)
    path.write_bytes(delimited(rows, ODD))
    record = library.load([path], target, table, layout=ODD)
    assert record.verified
    return record.digests


def digests_of(manifest: Any) -> Any:
    total = None
    for part in manifest.parts:
        source = Source.of(manifest.folder / part.path).read_by(manifest.layout)
        names = manifest.layout.names
        task = ReadTask("x", source, Identity(), part.hash, manifest.layout, names)
        found = read_part(task)
        total = add_digests(total, found) if found else total
    return tuple(total or ())


@also("described_sluice", "described_duckdb", "lake")
def test_what_went_in_comes_out_in_every_format(target: str, table: str, tmp_path: Path) -> None:
    before = filled(tmp_path, target, table)
    whole = ask(target, f"SELECT * FROM {table} ORDER BY 1")
    for form in FORMATS:
        record = library.unload(
            target, tmp_path / form, table=table, format=form, part_size="16KiB",
            streams=2 if form == "csv" else 1, columns=ODD.names,
        )  # fmt: skip
        assert (record.verified, record.differences, record.rows) == (True, (), 3000)
        assert len(record.manifest.parts) > 5
        assert digests_of(record.manifest) == before
        assert [part.path for part in record.manifest.parts] == sorted(
            str(path.relative_to(tmp_path / form)) for path in (tmp_path / form).glob(f"*{form}")
        )
        if target.startswith("described") and form != "csv":
            continue
        # And in again, into a table that is the same to the last value.
        back = library.load(record.manifest, target, f"{table}_{form}", again=True)
        assert (back.verified, back.digests) == (True, before)
        listed = ", ".join(ODD.names)
        again = ask(target, f"SELECT {listed} FROM {table}_{form} ORDER BY 1")
        assert again == [row[: len(ODD.names)] for row in whole]


CHARACTERS = st.characters(codec="utf-8", exclude_characters="\0")


@given(rows=st.lists(st.tuples(
    st.one_of(st.none(), st.text(CHARACTERS, max_size=9)),
    st.one_of(st.none(), st.integers(-(2**63), 2**63 - 1)),
    st.one_of(st.none(), st.decimals(-10**8, 10**8, allow_nan=False, places=2)),
), max_size=30))  # fmt: skip
@settings(max_examples=12)
def test_any_rows_come_out_as_they_are(
    rows: list[Any], tmp_path_factory: pytest.TempPathFactory
) -> None:
    home = tmp_path_factory.mktemp("any")
    layout = Layout("any", Dialect(header=False), (
        Field("text"), Field("whole", "integer"), Field("exact", "number", precision=18, scale=2),
    ))  # fmt: skip
    columns = zip(*rows, strict=True) if rows else ([], [], [])
    made = pa.table(
        [
            pa.array(list(column), kind)
            for column, kind in zip(columns, layout.arrow_schema.types, strict=True)
        ],
        schema=layout.arrow_schema,
    )
    (home / "in.csv").write_bytes(delimited(made, layout))
    target = f"duckdb:///{home}/a.duckdb"
    if not rows:
        (home / "in.csv").write_bytes(b'"one",1,1.00\n')
    library.load([home / "in.csv"], target, "any_rows", layout=layout)
    record = library.unload(target, home / "out", table="any_rows", format="parquet")
    assert record.verified
    assert record.rows == max(len(rows), 1)
    if rows:
        import pyarrow.parquet as pq

        out = pa.concat_tables(
            [pq.read_table(home / "out" / one.path) for one in record.manifest.parts]
        )
        key = [(name, "ascending") for name in layout.names]
        assert out.sort_by(key).equals(made.sort_by(key))


def test_a_described_engine_gives_what_a_query_gives(described_duckdb: str, tmp_path: Path) -> None:
    filled(tmp_path, described_duckdb, "odd", 500)
    asked = "SELECT open, count(*) AS n, min(day) AS first FROM odd GROUP BY 1"
    record = library.unload(described_duckdb, tmp_path / "out", query=asked)
    assert (record.verified, record.rows) == (True, 3)
    assert [field.type for field in record.manifest.layout.fields] == ["boolean", "integer", "date"]


def test_millrace_gives_its_chunks_back(tmp_path: Path) -> None:
    with standing_in(tmp_path / "s", DepotPhysics(), EnginePhysics(start_up=0.0)) as (_, engine):
        before = filled(tmp_path, engine, "odd")
        more = tmp_path / "more.csv"
        more.write_bytes(delimited(odd_rows(3100).slice(3000), ODD))
        library.load([more], engine, "odd", layout=ODD, table_mode="append")
        record = library.unload(engine, tmp_path / "out", table="odd", part_size="16KiB")
        assert (record.verified, record.rows, len(record.manifest.parts)) == (True, 3100, 2)
        with pytest.raises(RequestError, match="knows no statements"):
            library.unload(engine, tmp_path / "none", query="SELECT 1")
        library.undo(library.load([more], engine, "other", layout=ODD, again=True).load_id, engine)
        assert before


@pytest.mark.parametrize("kernel", ["on", "off"])
def test_postgresql_sends_records_of_every_size_and_tells_where_it_breaks(
    kernel: str, postgresql: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SPLARN_KERNEL", kernel)
    sizes = [0, 1, 70_000, 300_000, 3_000_000, 5, 262_144]
    asked = " UNION ALL ".join(f"SELECT {n} AS no, repeat('a,\"b', {size}) AS words"
                               for n, size in enumerate(sizes))  # fmt: skip
    record = library.unload(postgresql, tmp_path / "out", query=asked)
    (part,) = record.manifest.parts
    text = (tmp_path / "out" / part.path).read_text()
    held = ['"' + 'a,""b' * size + '"' for size in sizes]
    assert text == "".join(f"{n},{words}\n" for n, words in enumerate(held))
    asked = "SELECT 1000000 / (60000 - n) AS n FROM generate_series(1, 60000) AS n"
    with pytest.raises(OutsideError, match="division by zero"):
        library.unload(postgresql, tmp_path / "broken", query=asked)
    assert not list((tmp_path / "broken").glob("*-0*"))
    asked = "SELECT n FROM generate_series(1, 200000) AS n"
    record = library.unload(postgresql, tmp_path / "many", query=asked)
    lines = "".join((tmp_path / "many" / one.path).read_text() for one in record.manifest.parts)
    assert lines == "".join(f"{n}\n" for n in range(1, 200_001))


def test_a_broken_unload_goes_on_while_the_table_is_what_it_was(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = filled(tmp_path, target, table)
    words: dict[str, Any] = {"table": table, "part_size": "16KiB", "streams": 1}
    run, done = unloader.run_unload_task, []

    def until(task: Any) -> Any:
        if len(done) == 3:
            raise OutsideError("The line was cut.")
        done.append(task.stem)
        return run(task)

    def broken() -> None:
        done.clear()
        with monkeypatch.context() as here:
            here.setattr(unloader, "run_unload_task", until)
            with pytest.raises(OutsideError, match="was cut"):
                library.unload(target, tmp_path / "out", **words)
        assert not (tmp_path / "out" / "datapackage.json").exists()

    one_piece = target.startswith("mariadb")
    if one_piece:
        ask(target, f"ALTER TABLE {table} ADD PRIMARY KEY (no)", False)
    broken()
    record = library.unload(target, tmp_path / "out", **words)
    assert (record.kept, record.verified, record.rows) == (3, True, 3000)
    assert digests_of(record.manifest) == before
    with pytest.raises(RequestError, match="--again"):
        library.unload(target, tmp_path / "out", **words)
    # Another table than it was begins anew, and so does one that lost a part.
    shutil.rmtree(tmp_path / "out")
    broken()
    ask(target, f"UPDATE {table} SET rate = 99 WHERE no = 2", False)
    record = library.unload(target, tmp_path / "out", **words)
    assert (record.kept, record.verified, record.rows) == (0, True, 3000)
    shutil.rmtree(tmp_path / "out")
    broken()
    next((tmp_path / "out").glob("*.csv")).unlink()
    assert library.unload(target, tmp_path / "out", **words).kept == 0


def test_what_others_do_meanwhile_is_not_in_it_or_is_said(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    if target.startswith("sqlite"):
        ask(target, "PRAGMA journal_mode = WAL")
    filled(tmp_path, target, table)
    run, first = unloader.run_unload_task, []

    def disturbed(task: Any) -> Any:
        if not first:
            first.append(task)
            ask(target, f"DELETE FROM {table} WHERE no % 3 = 0", False)
        return run(task)

    with monkeypatch.context() as here:
        here.setattr(unloader, "run_unload_task", disturbed)
        record = library.unload(target, tmp_path / "out", table=table, part_size="16KiB", streams=1)
    if target.startswith("postgresql"):
        assert (record.verified, record.rows) == (True, 3000)
    else:
        assert record.verified is False
        assert "2,000 rows are in the parts and 3,000 were" in record.differences[0]
    again = library.unload(target, tmp_path / "out", table=table, part_size="16KiB", again=True)
    assert (again.verified, again.rows) == (True, 2000)


@pytest.fixture
def lock_file(tmp_path: Path, splarn: Splarn) -> Iterator[Splarn]:
    readings(tmp_path / "gauges.csv", 1, 900)
    library.load([tmp_path / "gauges.csv"], f"sqlite:///{tmp_path}/a.db", "gauges")
    yield splarn


def test_a_query_comes_as_it_is_and_goes_into_another_engine(
    lock_file: Splarn, tmp_path: Path, postgresql: str, table: str
) -> None:
    told = lock_file(
        "unload", "--from", "sqlite:///a.db", "--query",
        "SELECT field_2 AS gauge, count(*) AS n, max(field_4) AS last FROM gauges GROUP BY 1;",
        "--into", "sums", "--header", "--json",
    )  # fmt: skip
    assert told.code == 0, told.err
    assert (told.json["rows"], told.json["verified"], told.json["verified_by"]) == (
        9,
        True,
        "count",
    )
    (part,) = (tmp_path / "sums").glob("*.csv")
    assert part.read_text().splitlines()[0] == "gauge,n,last"
    by_rows = library.unload(
        f"sqlite:///{tmp_path}/a.db", tmp_path / "rows", query="SELECT field_1 AS n FROM gauges",
        part_size="1GiB",
    )  # fmt: skip
    assert [part.rows for part in by_rows.manifest.parts] == [900]
    moved = library.load(tmp_path / "sums", postgresql, table)
    assert (moved.verified, moved.rows_loaded) == (True, 9)
    ask(f"sqlite:///{tmp_path}/a.db", "CREATE TABLE none (a INTEGER, b TEXT)", False)
    asked = ("--from", "sqlite:///a.db", "--query", "SELECT field_1 FROM gauges", "--into", "few")
    few = lock_file("unload", *asked, "--part-rows", "250", "--format", "jsonl", "--json")
    assert (few.json["parts"], few.json["rows"]) == (4, 900)
    # What was done is in the ledger.
    noted = lock_file("ledger", few.json["unload_id"], "--json").json
    assert (noted["kind"], noted["document"]["rows"]) == ("unload", 900)
    # What no part can hold is told before a manifest says that all is there.
    ask(postgresql, f"CREATE TABLE {table}_nan AS SELECT 'NaN'::numeric(9,2) AS level", False)
    with pytest.raises(RequestError, match="'NaN' in level"):
        library.unload(postgresql, tmp_path / "nan", table=f"{table}_nan")
    assert not (tmp_path / "nan" / "datapackage.json").exists()
    ask(postgresql, f"DROP TABLE {table}_nan", False)
    empty = library.unload(f"sqlite:///{tmp_path}/a.db", tmp_path / "none", table="none")
    assert (empty.rows, len(empty.manifest.parts), empty.verified) == (0, 1, True)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--table", "gaugs"), "no table gaugs"),
        (("--table", "gauges", "--columns", "no_such"), "no column no_such"),
        (("--table", "gauges", "--query", "SELECT 1"), "leave --table"),
        (("--query", " ; "), "--query is empty"),
        (("--query", "SELEC 1"), "Reading the query failed"),
        (("--table", "gauges", "--format", "xml"), "csv, jsonl or parquet"),
        (("--table", "gauges", "--format", "jsonl", "--header"), "--header"),
        (("--table", "gauges", "--codec", "zip"), "codec 'zip'"),
        (("--table", "bytes_there"), "holds bytes"),
        (("--table", "mixed"), "'upper', which is no integer"),
        (("--table", "gauges", "--into", "full"), "holds other files"),
        (("--table", "gauges", "--part-size", "1"), "larger --part-size"),
    ],
)
def test_what_cannot_be_unloaded_is_one_sentence(
    lock_file: Splarn, tmp_path: Path, words: tuple[str, ...], said: str
) -> None:
    place = f"sqlite:///{tmp_path}/a.db"
    ask(place, "CREATE TABLE bytes_there (a BLOB)", False)
    ask(place, "CREATE TABLE mixed (a INTEGER)", False)
    ask(place, "INSERT INTO mixed VALUES (1), ('upper')", False)
    if "1" in words[-1:]:
        ask(place, "INSERT INTO mixed SELECT random() FROM gauges a, gauges b LIMIT 0", False)
        ask(place, "CREATE TABLE many AS SELECT a.field_1 AS n FROM gauges a, gauges b", False)
        words = ("--table", "many", *words[2:])
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "letter.txt").write_text("mine")
    told = lock_file("unload", "--from", "sqlite:///a.db", "--into", "out", *words)
    assert told.code in (2, 3), told.out
    assert said in told.err.replace("\n", " ")
    assert "Traceback" not in told.err
    assert (tmp_path / "full" / "letter.txt").read_text() == "mine"
    assert lock_file("unload", "--from", "sqlite:///none.db", "--table", "t").code == 2
    assert not (tmp_path / "none.db").exists()
