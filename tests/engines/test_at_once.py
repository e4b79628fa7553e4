"""Several loads of one table at once: both are in, and neither disturbs the other."""

from __future__ import annotations

import threading
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from splarn.core.errors import OutsideError
from splarn.core.load import (
    LoadRecord,
    finish,
    load,
    undo,
)
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.work.pool import Inline
from splarn.engines import opener
from tests.conftest import also, ask
from tests.engines.lives import (
    GAUGES,
    readings,
    request,
    session_of,
)
from tests.engines.test_load import Broken, pull_the_plug


@also("described_sluice", "described_duckdb", "lake")
def test_two_loads_into_one_table_at_once_leave_both(
    target: str, table: str, files: tuple[Path, Path]
) -> None:
    old, new = files
    readings(new, 401, 1300)
    with session_of(target) as session:
        session.tables.create(table, GAUGES)
        session.commit()
    records: list[LoadRecord] = []
    failures: list[Exception] = []

    def one(path: Path) -> None:
        try:
            wanted = request(target, table, path, table_mode="append", batch_rows=20)
            records.append(load(wanted, Inline()))
        except Exception as error:
            failures.append(error)

    threads = [threading.Thread(target=one, args=(path,)) for path in (old, new)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert failures == []
    assert {record.verified for record in records} <= {True, None}
    assert not any(record.differences for record in records)
    counted = ask(target, f"SELECT count(*), count(DISTINCT reading_no) FROM {table}")
    assert counted == [(1300, 1300)]


def test_a_load_that_begins_while_another_is_looked_at_makes_no_difference(
    target: str, table: str, files: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    with session_of(target) as session:
        session.tables.create(table, GAUGES)
        session.commit()
    readings(files[1], 401, 800)
    alone, others = finish._alone, []

    def and_then_another(*args: Any) -> Any:
        found = alone(*args)
        if not others:
            others.append("begins")
            args[0].commit()
            others.append(load(request(target, table, files[1], table_mode="append"), Inline()))
        return found

    monkeypatch.setattr(finish, "_alone", and_then_another)
    record = load(request(target, table, files[0], table_mode="append"), Inline())
    assert record.verified is not False, record.differences
    assert others[1].verified is not False, others[1].differences


def test_a_load_under_way_is_not_begun_or_taken_back_by_another(
    postgresql: str, mariadb: str, table: str, files: tuple[Path, Path],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    for target in (postgresql, mariadb):
        wanted = request(target, table, files[0])
        with monkeypatch.context() as patch:
            pull_the_plug(patch, 2)
            with pytest.raises(Broken):
                load(wanted, Inline())
        with session_of(target) as other:
            (note,) = other.notes.loads(table)
            assert other.claims.claim(note.load_id)
            with pytest.raises(OutsideError, match="carried out by another Splarn"):
                load(wanted, Inline())
            with pytest.raises(OutsideError, match="carried out at this moment"):
                undo(opener(target), note.load_id)
        assert load(wanted, Inline()).rows_loaded == 400


def test_a_transaction_that_has_read_waits_for_others_that_write(
    target: str, table: str, files: tuple[Path, Path]
) -> None:
    with session_of(target) as writing, session_of(target) as reading:
        table = writing.tables.canonical(table)
        writing.tables.create(table, GAUGES)
        writing.commit()
        names = [field.name for field in GAUGES.fields]
        reading.digests.hasher(table, names)
        note = PartNote("load-1", "xxh3-128:00", "a.csv", "open", 0, 0, 0, table=table)
        other = replace(note, part_id="xxh3-128:01")
        writing.notes.put_load(LoadNote("load-1", table, "open", "create", "2031-01-01"))
        writing.notes.put_parts([note])
        writing.commit()
        reading.notes.parts(["load-1"])
        writing.notes.put_parts([other])
        ends = threading.Timer(0.5, writing.commit)
        ends.start()
        done = replace(note, state="done")
        reading.notes.advance(note, done)
        reading.commit()
        ends.join()
        assert {one.state for one in reading.notes.parts(["load-1"])} == {"done", "open"}
        reading.tables.drop(table)
        reading.commit()
