"""The stream that every connection runs, against an engine in memory that refuses and breaks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from splarn.core.check.limit import BadRows
from splarn.core.errors import OutsideError, RefusedError, ShortfallError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load import stream
from splarn.core.load.stream import run_load_task
from splarn.core.load.task import LoadTask, PartResult
from splarn.core.reading.faults import read_rejects
from splarn.core.reading.parsed import Parsed
from splarn.core.source.source import Source
from splarn.core.target.digest import ColumnDigest, digest_table
from splarn.core.target.marks import Marks, joined
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.target.tables import TableColumn

LAYOUT = Layout("rows", Dialect(header=False), (Field("n", "integer"), Field("note")))
NOTE = PartNote("load-1", "begins-128:1", "rows.csv", "open", 0, 0, 0)


class Broken(Exception):
    """The moment at which everything stops."""


@dataclass
class Store:
    """What an engine keeps: committed rows and the part's note; and how it misbehaves.

    Rows in `refused` are not taken, when they are put, when their batch is closed or when it is
    committed (`when` 0, 1, 2). After `breaks` more commits everything stops, before or after the
    commit took effect.
    """

    refused: frozenset[int] = frozenset()
    when: int = 0
    breaks: int | None = None
    effective: bool = False
    rows: list[int] = field(default_factory=list)
    note: PartNote = NOTE
    commits: int = 0


class Session:
    """A connection to the store; see core.engine.Session."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self.open_rows: list[int] = []
        self.open_note: PartNote | None = None
        self.rows = self.notes = self.digests = self
        self.refuses_rows = True

    def hasher(self, table: str, names: Sequence[str]) -> None:
        return None

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        return Writer(self)

    def advance(self, was: PartNote, now: PartNote) -> None:
        assert self.store.note == was, "only the note that stands may be moved on"
        assert now.position >= was.position
        assert now.rows + now.refused >= was.rows + was.refused
        self.open_note = now

    def commit(self) -> None:
        self.refuse(2)
        stops = self.store.breaks is not None and self.store.breaks == 0
        if stops and not self.store.effective:
            raise Broken
        if self.store.breaks is not None:
            self.store.breaks -= 1
        self.store.rows += self.open_rows
        self.store.note = self.open_note or self.store.note
        self.store.commits += 1
        self.open_rows, self.open_note = [], None
        if stops:
            raise Broken

    def rollback(self) -> None:
        self.open_rows, self.open_note = [], None

    def close(self) -> None:
        self.rollback()

    def refuse(self, when: int) -> None:
        hit = self.store.refused.intersection(self.open_rows)
        if hit and self.store.when == when:
            self.rollback()
            raise RefusedError(f"Row {min(hit)} was refused.", "not wanted")


class Writer:
    """A batch; see core.engine.Writer."""

    def __init__(self, session: Session) -> None:
        self.session = session

    def put(self, parsed: Parsed, start: int, stop: int) -> None:
        numbers = parsed.table.column("n").slice(start, stop - start).to_pylist()
        self.session.open_rows += numbers
        self.session.refuse(0)

    def close(self) -> Marks | None:
        self.session.refuse(1)
        return tuple((n, n) for n in self.session.open_rows)


class Engine:
    """The engine of a store; see core.engine.Engine."""

    name, place, in_process = "memory", "memory", True

    def __init__(self, store: Store) -> None:
        self.store = store

    def connect(self) -> Any:
        return Session(self.store)

    def ddl(self, table: str, layout: Layout) -> str:
        return ""

    # The rest of the protocol is the loader's business, not the stream's.
    def columns(self, table: str) -> list[TableColumn] | None: ...
    def loads(self, table: str) -> list[LoadNote]: ...  # type: ignore[empty-body]
    def digest(self, table: str, fields: Sequence[Field]) -> list[ColumnDigest]: ...  # type: ignore[empty-body]


def write_source(path: Path, count: int, bad: set[int]) -> None:
    lines = [f"{n},{'x' * (n % 7)}\n" if n not in bad else f"{n},a,b\n" for n in range(count)]
    path.write_text("".join(lines))


def run(
    store: Store, path: Path, batch: int, rejects: Path | None, limit: int | None = None
) -> PartResult:
    task = LoadTask(
        lambda: Engine(store),
        "rows",
        LAYOUT,
        LAYOUT.names,
        Source.of(path),
        store.note.content,
        "",
        (),
        store.note,
        batch,
        BadRows(limit),
        rejects,
    )
    return run_load_task(task)


COUNTS = st.integers(1, 60)


@settings(max_examples=90, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_every_row_is_in_or_set_aside_once_whatever_is_refused_and_breaks(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    folder = tmp_path_factory.mktemp("stream")
    count = data.draw(COUNTS)
    numbers = st.integers(0, count - 1)
    bad = data.draw(st.sets(numbers, max_size=4))
    refused = frozenset(data.draw(st.sets(numbers, max_size=5))) - bad
    store = Store(refused, data.draw(st.integers(0, 2)))
    path, rejects = folder / "rows.csv", folder / "rejects.jsonl"
    write_source(path, count, bad)
    batch = data.draw(st.integers(0, 12))
    stops = data.draw(st.lists(st.tuples(st.integers(0, 5), st.booleans()), max_size=3))
    with pytest.MonkeyPatch.context() as patch:
        # Chunks of a few records, so that batches reach over them.
        size = data.draw(st.integers(10, 200))
        patch.setattr(stream, "read_parsed", lambda *given, read: _small(read, size, *given))
        for breaks, effective in stops:
            store.breaks, store.effective = breaks, effective
            try:
                run(store, path, batch, rejects)
            except Broken:
                continue
        store.breaks = None
        result = run(store, path, batch, rejects)
    good = [n for n in range(count) if n not in bad and n not in refused]
    assert store.rows == good
    assert result.note.marks == joined([tuple((n, n) for n in good)])
    assert (result.note.state, result.note.rows) == ("done", len(good))
    assert result.note.refused == len(bad) + len(refused)
    aside = list(read_rejects(rejects)) if rejects.exists() else []
    assert sorted(fault.row - 1 for fault in aside) == sorted(bad | refused)
    assert {fault.row - 1 for fault in aside if fault.kind == "engine"} == refused
    table = _table(good)
    assert (result.digests or _empty()) == (
        digest_table(table, LAYOUT.fields) if good else _empty()
    )


def _small(read: Any, size: int, path: Path, codec: str, layout: Layout) -> Any:
    from splarn.core.reading import text_parser
    from splarn.core.records.chunks import record_chunks

    parser = text_parser(layout, str(path))
    blocks = read(path, codec, 0, None)
    for chunk in record_chunks(blocks, layout.dialect, size, where=str(path)):
        yield parser.parse(chunk)


def _table(numbers: list[int]) -> Any:
    import pyarrow as pa

    rows = [{"n": n, "note": "x" * (n % 7) or None} for n in numbers]
    return pa.Table.from_pylist(rows, schema=LAYOUT.arrow_schema)


def _empty() -> list[ColumnDigest]:
    return [ColumnDigest(field.name) for field in LAYOUT.fields]


def test_a_refused_row_costs_only_a_few_more_commits(tmp_path: Path) -> None:
    path = tmp_path / "rows.csv"
    write_source(path, 4096, set())
    store = Store(frozenset({1234}), 1)
    run(store, path, 4096, tmp_path / "rejects.jsonl")
    assert len(store.rows) == 4095
    assert store.commits <= 2 * 12 + 3
    clean = Store()
    run(clean, path, 4096, None)
    assert clean.commits <= 2


def test_a_limit_halts_at_the_row_that_goes_over_it(tmp_path: Path) -> None:
    path, rejects = tmp_path / "rows.csv", tmp_path / "rejects.jsonl"
    write_source(path, 300, set())
    store = Store(frozenset({50, 120}), 0)
    with pytest.raises(ShortfallError, match=r"more than 1 row is bad, the last one at .* 121"):
        run(store, path, 100, rejects, limit=1)
    assert store.rows == [n for n in range(120) if n != 50]
    assert [fault.row for fault in read_rejects(rejects)] == [51]
    result = run(store, path, 100, rejects, limit=2)
    assert (result.note.rows, result.note.refused) == (298, 2)
    assert [fault.row for fault in read_rejects(rejects)] == [51, 121]


def test_a_batch_too_large_to_keep_is_not_narrowed_down(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "rows.csv"
    write_source(path, 500, set())
    monkeypatch.setattr(stream, "HELD_BYTES", 100)
    store = Store(frozenset({400}), 1)
    with pytest.raises(OutsideError, match="smaller --batch-rows"):
        run(store, path, 0, None)
    assert store.rows == []
    fine = Store()
    result = run(fine, path, 0, None)
    assert len(fine.rows) == 500
    assert result.digests == digest_table(_table(list(range(500))), LAYOUT.fields)


def test_a_part_that_is_done_is_only_read_for_its_figures(tmp_path: Path) -> None:
    path = tmp_path / "rows.csv"
    write_source(path, 50, set())
    store = Store()
    first = run(store, path, 20, None)
    again = run(store, path, 20, None)
    assert again.digests == first.digests
    assert store.rows == list(range(50))
    assert again.commits == 0
    assert replace(again.note, position=0) == replace(first.note, position=0)


@pytest.mark.parametrize("how", ["changed", "cut off"])
def test_a_file_that_was_another_when_its_first_rows_came_in_is_noticed(
    tmp_path: Path, how: str
) -> None:
    path = tmp_path / "rows.csv"
    write_source(path, 300, set())
    good = path.read_bytes()
    spoilt = good.replace(b"\n104,xxxxxx\n", b"\n104,xxxyxx\n")
    if how == "cut off":
        # The last record lacks its end, and reads as a shorter one.
        spoilt = good[: good.index(b"\n118,xxxxxx\n") + len(b"\n118,xxx")]
    path.write_bytes(spoilt)
    store = Store(breaks=119)
    with pytest.raises(Broken):
        run(store, path, 1, None)
    assert len(store.rows) == 119
    path.write_bytes(good)
    store.breaks = None
    with pytest.raises(OutsideError, match="is not what it was when 119 rows of it were loaded"):
        run(store, path, 1, None)
    assert len(store.rows) == 119
    # As it was then, it goes on to its end.
    path.write_bytes(spoilt if how == "changed" else good)
    if how == "changed":
        assert run(store, path, 1, None).note.rows == 300
