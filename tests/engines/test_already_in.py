"""Content and tables are known again, whatever they are called."""

from __future__ import annotations

import gzip
import re
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
import xxhash

from splarn.core.errors import OutsideError, RequestError
from splarn.core.load import inputs_from_files, inputs_from_manifest, load, loader, undo
from splarn.core.shape import part, shaper
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import shape
from splarn.core.source import source
from splarn.core.source.codecs import Packing
from splarn.core.source.content import Identity, Reading
from splarn.core.target.details import LoadDetails
from splarn.core.target.notes import LoadNote, PartNote
from splarn.core.work.pool import Inline
from splarn.engines import identity, open_engine, opener
from splarn.engines.sql.notes import SqlNotes
from tests.conftest import ask
from tests.engines.gauges import GAUGES, count, readings, request, run


def spellings(target: str, table: str) -> list[str]:
    """Other ways to write the same table."""
    kind = target.split(":")[0]
    if kind == "postgresql":
        return [
            f"public.{table}",
            f'"public"."{table}"',
            f"{target.rpartition('/')[2]}.public.{table}",
        ]
    if kind == "mariadb":
        return [f"{target.rpartition('/')[2]}.{table}", f'"{table}"']
    return [f"main.{table}", table.upper(), f"MAIN.{table.title()}", f'"{table}"']


def test_a_table_is_one_however_it_is_written(target: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 300)
    first = run(target, table, path)
    for other in spellings(target, table):
        again = run(target, other, path, table_mode="append")
        assert (again.done_before, again.load_id) == (True, first.load_id), other
        few = readings(tmp_path / "few.csv", 301, 310)
        with pytest.raises(RequestError, match=first.load_id):
            run(target, other, path, few, table_mode="append")
    assert count(target, table) == 300


def test_another_search_path_is_the_same_table(postgresql: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 100)
    first = run(postgresql, table, path)
    ask(postgresql, f"CREATE SCHEMA s_{table}", False)
    with_path = f"{postgresql}?options=-csearch_path%3Ds_{table}%2Cpublic"
    again = run(with_path, table, path, table_mode="append")
    assert again.load_id == first.load_id
    again = run(with_path, f"public.{table}", path, table_mode="append")
    assert again.load_id == first.load_id
    # What is in the other schema is another table, with notes of its own.
    other = run(postgresql, f"s_{table}.{table}", path)
    assert (other.done_before, other.rows_loaded) == (False, 100)
    assert undo(opener(with_path), other.load_id).rows_removed == 100
    assert count(postgresql, table) == 100


@pytest.mark.parametrize("kind", ["sqlite", "duckdb"])
def test_a_file_by_another_path_is_one_target(kind: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 50)
    home = tmp_path / "home"
    home.mkdir()
    first = run(f"{kind}:///{home / 't.db'}", table, path)
    (tmp_path / "link").symlink_to(home)
    (tmp_path / "linked.db").symlink_to(home / "t.db")
    for other in (
        tmp_path / "link" / "t.db",
        tmp_path / "linked.db",
        home / ".." / "home" / "t.db",
    ):
        assert run(f"{kind}:///{other}", table, path, table_mode="append").load_id == first.load_id
        assert identity(f"{kind}:///{other}") == identity(f"{kind}:///{home / 't.db'}")


def test_content_is_in_whatever_its_codec_and_cut(target: str, table: str, tmp_path: Path) -> None:
    path = readings(tmp_path / "a.csv", 1, 2000)
    packed = tmp_path / "b.csv.gz"
    packed.write_bytes(gzip.compress(path.read_bytes()))
    first = run(target, table, path)
    assert run(target, table, packed, table_mode="append").load_id == first.load_id
    made = shape(
        [path], GAUGES, tmp_path / "p", PartsFormat("csv", Packing("zstd", 1), 9000), Inline()
    )
    parts = inputs_from_manifest(made.manifest)
    with pytest.raises(RequestError, match=f"holds records that are in .*{first.load_id}"):
        run(target, table, inputs=parts, table_mode="append")
    # And the other way round, one part being enough.
    other = f"{table}_o"
    second = run(target, other, inputs=parts[1:2])
    with pytest.raises(RequestError, match=second.load_id):
        run(target, other, packed, table_mode="append")
    with pytest.raises(RequestError, match=second.load_id):
        run(target, other, inputs=parts, table_mode="append")
    assert run(target, other, inputs=parts[2:], table_mode="append").rows_loaded > 0
    assert count(target, table) == 2000


class Flat:
    """The hash of a part as an earlier version took it."""

    def __init__(self) -> None:
        self._state = xxhash.xxh3_128()

    def update(self, data: bytes) -> None:
        self._state.update(data)

    @property
    def content_id(self) -> str:
        return f"xxh3-128:{self._state.hexdigest()}"


@contextmanager
def as_an_earlier_version() -> Iterator[None]:
    """Content has the names that it had when all bytes were hashed as one."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Reading, "identity", property(lambda one: Identity(one.begins, one.flat)))
        patch.setattr(part, "Leaves", Flat)
        patch.setattr(shaper, "_extents", lambda *_: {})
        yield


def test_what_an_earlier_version_brought_in_is_known(
    target: str, table: str, tmp_path: Path
) -> None:
    path, other = readings(tmp_path / "a.csv", 1, 2000), readings(tmp_path / "b.csv", 1, 1999)
    how = PartsFormat("csv", Packing("zstd", 1), 9000)
    with as_an_earlier_version():
        first = run(target, table, path)
        old = shape([path], GAUGES, tmp_path / "old", how, Inline())
    assert run(target, table, path, table_mode="append").done_before
    with pytest.raises(RequestError, match=f"already in.*{first.load_id}"):
        run(target, table, path, readings(tmp_path / "c.csv", 3000, 3001), table_mode="append")
    new = shape([path], GAUGES, tmp_path / "new", how, Inline())
    for made in (old, new):
        parts = inputs_from_manifest(made.manifest)
        with pytest.raises(RequestError, match=f"holds records that are in .*{first.load_id}"):
            run(target, table, inputs=parts, table_mode="append")
    # Parts that an earlier version cut, and the file that they were cut of.
    another = f"{table}_o"
    parts = inputs_from_manifest(old.manifest)
    second = run(target, another, inputs=parts)
    for made in (old, new):
        parts = inputs_from_manifest(made.manifest)
        assert run(target, another, inputs=parts, table_mode="append").done_before
    how = PartsFormat("csv", Packing("zstd", 1), 7000)
    cut = shape([path], GAUGES, tmp_path / "cut", how, Inline())
    for inputs in (inputs_from_manifest(cut.manifest), inputs_from_files([path], GAUGES)):
        with pytest.raises(RequestError, match=second.load_id):
            run(target, another, inputs=inputs, table_mode="append")
    assert run(target, table, other, table_mode="append").rows_loaded == 1999


def test_content_that_is_coming_in_is_claimed_before_its_first_row(
    target: str, table: str, tmp_path: Path
) -> None:
    paths = [readings(tmp_path / f"{n}.csv", n * 1000, n * 1000 + 99) for n in range(3)]
    run(target, table, paths[0])
    engine = open_engine(target)
    holder = engine.connect()
    try:
        (entry,) = inputs_from_files(paths[1:2], GAUGES)
        one = holder.tables.canonical(table)
        note = LoadNote("load-x", one, "open", "append", "2031-01-01",
                        LoadDetails(stage="load", part_count=1))  # fmt: skip
        holder.claims.take_turn(one)
        holder.notes.put_load(note)
        holder.notes.put_parts(
            [
                PartNote(
                    "load-x",
                    entry.part_id,
                    "1.csv",
                    "open",
                    0,
                    0,
                    0,
                    table=one,
                    begins=entry.content.begins,
                    whole=entry.content.whole,
                )
            ]
        )
        holder.commit()
        holder.claims.end_turn(one)
        assert holder.claims.claim("load-x")
        if target.startswith("duckdb"):
            holder.rollback()
        with pytest.raises(
            OutsideError, match=r"1\.csv begins with records that the load load-x is bri"
        ):
            run(target, table, *paths[1:], table_mode="append")
        # What is not being brought in may come.
        assert run(target, table, paths[2], table_mode="append").rows_loaded == 100
    finally:
        holder.close()
    assert count(target, table) == 200


def test_files_that_begin_alike_are_told_apart_by_the_rest(
    target: str, table: str, tmp_path: Path
) -> None:
    path = readings(tmp_path / "a.csv", 1, 900)
    text = path.read_text()
    later = tmp_path / "later.csv"
    later.write_text(text.replace("\n880,RM", "\n99880,RM"))
    first = run(target, table, path)
    second = run(target, table, later, table_mode="append")
    assert (first.rows_loaded, second.rows_loaded) == (900, 900)
    packed = tmp_path / "later.csv.gz"
    packed.write_bytes(gzip.compress(later.read_bytes()))
    for again, load_id in ((path, first.load_id), (packed, second.load_id)):
        other = readings(tmp_path / "new.csv", 5000, 5100)
        with pytest.raises(RequestError, match=f"{again.name} is already in .*{load_id}"):
            run(target, table, other, again, table_mode="append")
    assert run(target, table, packed, table_mode="append").load_id == second.load_id
    # Together as well, and of the two it is known that they are two.
    both = run(target, f"{table}_b", path, later)
    assert both.rows_loaded == 1800
    with pytest.raises(RequestError, match="holds the same content as"):
        run(target, f"{table}_b", later, packed, table_mode="append")


@pytest.mark.parametrize("rows", [250, 300, 301, 0])
def test_a_file_that_is_shorter_now_is_not_what_was_begun(
    target: str, table: str, tmp_path: Path, rows: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = readings(tmp_path / "a.csv", 1, 600)
    advance, left = SqlNotes.advance, [4]

    def until_killed(self: SqlNotes, was: PartNote, now: PartNote) -> None:
        left[0] -= 1
        if left[0] < 0:
            raise KeyboardInterrupt
        advance(self, was, now)

    with monkeypatch.context() as patch:
        patch.setattr(SqlNotes, "advance", until_killed)
        with pytest.raises(KeyboardInterrupt):
            run(target, table, path)
    there = count(target, table)
    assert there == 400
    header, *lines = path.read_text().splitlines(keepends=True)
    path.write_text("".join((header, *lines[:rows])))
    with pytest.raises((OutsideError, RequestError), match="splarn undo") as told:
        run(target, table, path)
    assert count(target, table) == there
    load_id = re.findall(r"splarn undo ([\w-]+)", str(told.value))[0]
    undo(opener(target), load_id)
    # Whatever it holds now goes in once it is taken out.
    assert run(target, table, path).rows_loaded == rows


def test_content_that_may_be_coming_in_is_waited_for(
    target: str, table: str, tmp_path: Path
) -> None:
    path = readings(tmp_path / "a.csv", 1, 500)
    run(target, table, readings(tmp_path / "b.csv", 1000, 1009))
    holder = open_engine(target).connect()
    try:
        (entry,) = inputs_from_files([path], GAUGES)
        assert not entry.content.whole
        one = holder.tables.canonical(table)
        note = LoadNote("load-y", one, "open", "append", "2031-01-01",
                        LoadDetails(stage="load", part_count=1))  # fmt: skip
        holder.notes.put_load(note)
        holder.notes.put_parts(
            [
                PartNote(
                    "load-y",
                    entry.part_id,
                    "a.csv",
                    "open",
                    0,
                    0,
                    0,
                    table=one,
                    begins=entry.content.begins,
                )
            ]
        )
        holder.commit()
        assert holder.claims.claim("load-y")
        if target.startswith("duckdb"):
            holder.rollback()
        longer = readings(tmp_path / "longer.csv", 1, 501)
        other = readings(tmp_path / "other.csv", 2000, 2009)
        with pytest.raises(OutsideError, match=r"longer\.csv begins with records that the load"):
            run(target, table, longer, other, table_mode="append")
        assert run(target, table, other, table_mode="append").rows_loaded == 10
    finally:
        holder.close()


def test_files_are_read_once(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    paths = []
    for number in range(3):
        path = readings(tmp_path / f"{number}.csv", number * 60_000 + 1, number * 60_000 + 60_000)
        paths.append(path.with_suffix(".csv.gz"))
        paths[-1].write_bytes(gzip.compress(path.read_bytes()))
    passed = 0
    read_blocks = source.read_blocks

    def counted(*args: Any, **more: Any) -> Iterator[bytes]:
        nonlocal passed
        for block in read_blocks(*args, **more):
            passed += len(block)
            yield block

    monkeypatch.setattr(source, "read_blocks", counted)
    size = sum(len(gzip.decompress(path.read_bytes())) for path in paths)
    # The first block of each is looked at to know it.
    block = 1 << 20
    for mode in ("create", "append"):
        passed = 0
        wanted = paths[:2] if mode == "create" else paths[2:]
        record = run(target, table, *wanted, table_mode=mode, batch_rows=20_000)
        share = size * len(wanted) // 3
        assert share * 0.99 <= passed <= share * 1.05 + block * len(wanted), (passed, share)
        session = open_engine(target).connect()
        noted = session.notes.parts([record.load_id])
        session.close()
        known = {source.Source.of(path).identity(GAUGES) for path in wanted}
        assert {part.content for part in noted} == known
    assert count(target, table) == 180_000


def test_a_load_that_brought_nothing_does_not_stand_in_the_way(
    target: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    paths = [readings(tmp_path / f"{n}.csv", n * 1000, n * 1000 + 99) for n in range(2)]
    run(target, table, readings(tmp_path / "first.csv", 1, 10))

    def killed(*_: Any) -> None:
        raise KeyboardInterrupt

    with monkeypatch.context() as patch:
        patch.setattr(loader, "run_streams", killed)
        with pytest.raises(KeyboardInterrupt):
            run(target, table, *paths, table_mode="append")
    # Other files than those that were begun, one among them.
    assert run(target, table, paths[0], table_mode="append").rows_loaded == 100
    assert count(target, table) == 110


def test_claims_lie_beside_the_file_and_do_not_pile_up(
    tmp_path: Path, table: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    target = f"sqlite:///{tmp_path / 't.db'}"
    one = open_engine(target).connect()
    assert one.claims.claim("load-1")
    (claim,) = (path for path in tmp_path.iterdir() if path.name.endswith(".splarn-claim"))
    assert stat.S_IMODE(claim.stat().st_mode) == 0o666
    # Another temporary folder is no way around it.
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    other = open_engine(target).connect()
    assert not other.claims.claim("load-1")
    left = claim.with_name(claim.name.replace("load-1", "load-0"))
    left.touch()
    assert other.claims.claim("load-2")
    assert not left.exists()
    one.close()
    other.close()
    assert [path.name for path in tmp_path.iterdir()] == ["t.db"]


def test_notes_that_somebody_removed_are_missed(target: str, table: str, tmp_path: Path) -> None:
    first = readings(tmp_path / "a.csv", 1, 100)
    run(target, table, first)
    for how in (f"table_name LIKE '%{table}' AND part_id = ''",
                f"table_name LIKE '%{table}' AND part_id <> ''", "1 = 1"):  # fmt: skip
        if how == "1 = 1" and not target.startswith(("sqlite", "duckdb")):
            continue
        ask(target, f"DELETE FROM splarn_progress WHERE {how}", False)
        with pytest.raises(RequestError, match="removed from splarn_progress by somebody"):
            run(target, table, first, table_mode="append")
        assert count(target, table) == 100
        # The table emptied, nothing can be doubled.
        assert run(target, table, first, table_mode="empty").rows_loaded == 100
        assert run(target, table, first, table_mode="append").done_before


def test_a_load_that_the_target_has_no_note_of_is_missed(
    target: str, table: str, tmp_path: Path
) -> None:
    path = readings(tmp_path / "a.csv", 1, 100)
    run(target, table, path)
    wanted = request(target, table, readings(tmp_path / "b.csv", 101, 150), table_mode="append")
    whole = session_name(target, table)
    begun = replace(wanted, begun=(("20310101-000000-abcd", whole),))
    with pytest.raises(RequestError, match="removed from splarn_progress"):
        load(begun, Inline())
    assert load(replace(begun, again=True), Inline()).verified
    # It was missed once, and said; what was decided then is not asked again.
    more = inputs_from_files([readings(tmp_path / "c.csv", 151, 170)], GAUGES)
    assert load(replace(begun, inputs=more), Inline()).verified
    assert count(target, table) == 170


def test_a_load_into_another_table_of_the_same_name_is_not_missed(
    postgresql: str, table: str, tmp_path: Path
) -> None:
    run(postgresql, table, readings(tmp_path / "a.csv", 1, 100))
    path = readings(tmp_path / "b.csv", 101, 150)
    begun = (("20310101-000000-abcd", f"elsewhere.{table}"),)
    assert run(postgresql, table, path, table_mode="append", begun=begun).rows_loaded == 50


def session_name(target: str, table: str) -> str:
    """The canonical name of a table."""
    session = open_engine(target).connect()
    try:
        return session.tables.canonical(table)
    finally:
        session.close()


def test_content_beside_another_file_is_called_in_only_where_its_rows_are(
    target: str, table: str, tmp_path: Path
) -> None:
    first, other = readings(tmp_path / "a.csv", 1, 300), readings(tmp_path / "b.csv", 301, 400)
    record = run(target, table, first)
    with pytest.raises(RequestError, match=r"a\.csv is already in"):
        run(target, table, first, other, table_mode="append")
    ask(target, f"DELETE FROM {table} WHERE reading_no = 7", rows=False)
    with pytest.raises(RequestError, match=r"have been changed since .*(299|had 300)") as found:
        run(target, table, first, other, table_mode="append")
    assert record.load_id in str(found.value)
    ask(target, f"DROP TABLE {table}", rows=False)
    with pytest.raises(RequestError, match="is gone"):
        run(target, table, first, other)
