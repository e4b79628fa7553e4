"""Readings of gauges, and looks at what loads of them leave."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load import (
    LoadRecord,
    LoadRequest,
    inputs_from_files,
    load,
)
from splarn.core.target.digest import ColumnDigest
from splarn.core.work.pool import Inline
from splarn.engines import open_engine, opener
from tests.conftest import ask

GAUGES = Layout(
    "gauges",
    Dialect(header=False),
    (
        Field("reading_no", "integer", required=True),
        Field("gauge", max_length=20),
        Field("level", "number", precision=8, scale=2),
        Field("day", "date"),
    ),
)


def readings(path: Path, first: int, last: int, gauge: str = "LK") -> Path:
    lines = [
        f"{n},{gauge}-{n % 9},{n / 4:.2f},2031-0{n % 9 + 1}-11\n" for n in range(first, last + 1)
    ]
    path.write_text("".join(lines))
    return path


def request(target: str, table: str, *paths: Path, **more: Any) -> LoadRequest:
    inputs = inputs_from_files(paths, GAUGES)
    return LoadRequest(opener(target), table, GAUGES, inputs, **{"batch_rows": 150, **more})


def run(target: str, table: str, *paths: Path, **more: Any) -> LoadRecord:
    record = load(request(target, table, *paths, **more), Inline())
    assert record.verified is True
    return record


def digests(target: str, table: str) -> list[ColumnDigest]:
    with session_of(target) as session:
        return list(session.digests.of_columns(table, GAUGES.fields))


@contextmanager
def session_of(target: str) -> Iterator[Any]:
    session = open_engine(target).connect()
    try:
        yield session
    finally:
        session.close()


def beside(target: str, table: str) -> list[str]:
    """Tables that loads have left beside a table."""
    with session_of(target) as session:
        kind = {"sqlite": "SELECT name FROM sqlite_master WHERE type = 'table'"}
        default = "SELECT table_name FROM information_schema.tables"
        found = session.link.run(kind.get(target.split(":")[0], default)).rows
    return sorted(name for (name,) in found if name.startswith(f"{table}_"))


def done_beside(target: str, table: str, first: LoadRecord) -> list[Any]:
    """The notes of loads that are done, other than the first."""
    with session_of(target) as session:
        loads = session.notes.loads(table)
    return [note for note in loads if note.state == "done" and note.load_id != first.load_id]


def index_names(target: str, table: str) -> set[str]:
    with session_of(target) as session:
        return {index.name for index in session.tables.indexes(table)}


def make_index(target: str, table: str, column: str = "day", kind: str = "") -> None:
    ask(target, f"CREATE {kind} INDEX {table}_{column} ON {table} ({column})", False)
