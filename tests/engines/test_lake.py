"""Loads into a lake: once whatever breaks off, seen the same by another reader, and taken back."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow.parquet as pq
import pytest
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.types import DoubleType, IntegerType, ListType

from splarn.core.errors import OutsideError, RequestError
from splarn.core.lake.compaction import CompactRequest, compact
from splarn.core.layout.descriptor import write_layout
from splarn.core.layout.file_layout import read_file_layout
from splarn.core.load import load, undo
from splarn.core.target.levers import LoadLevers
from splarn.core.work.pool import Inline
from splarn.engines import open_engine, opener
from splarn.engines.lake.catalog import LakeCatalog
from splarn.engines.lake.storage import Storage, local_path
from tests.conftest import Splarn, ask
from tests.engines.lives import GAUGES, digests, readings, request, run, session_of

# What is killed leaves files open.
pytestmark = pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
MONTHS = LoadLevers(file_layout="month(day) sort(gauge) zstd(3)")


class Killed(BaseException):
    """The moment at which a program is killed; nothing of ours catches it."""


def kill(patch: pytest.MonkeyPatch, after: int, landed: bool) -> None:
    """Lets so many steps outside of this process pass, and kills before or after the next."""
    left = [after]

    def counted(step: Callable[..., Any]) -> Callable[..., Any]:
        def run(*given: Any, **named: Any) -> Any:
            if left[0] < 0:
                # What is dead does nothing more.
                raise Killed
            left[0] -= 1
            if left[0] < 0 and not landed:
                raise Killed
            done = step(*given, **named)
            if left[0] < 0:
                raise Killed
            return done

        return run

    for owner, name in ((Storage, "write"), (Storage, "create"), (Storage, "remove"),
                        (LakeCatalog, "_carry_out"), (LakeCatalog, "_create"),
                        (LakeCatalog, "_drop")):  # fmt: skip
        patch.setattr(owner, name, counted(getattr(owner, name)))


def table_of(lake: str, table: str) -> Any:
    folder = lake.removeprefix("lake:///")
    catalog = SqlCatalog(
        "splarn", uri=f"sqlite:///{folder}/catalog.db", warehouse=f"file://{folder}"
    )
    try:
        return catalog.load_table(("main", table))
    finally:
        catalog.close()


def files_of(lake: str, table: str) -> list[Path]:
    tasks = table_of(lake, table).scan().plan_files()
    return [local_path(task.file.file_path) for task in tasks]


@pytest.mark.no_cover
@pytest.mark.parametrize(
    ("mode", "levers", "landed"),
    [("create", MONTHS, False), ("append", LoadLevers(), True), ("empty", LoadLevers(), False),
     ("replace", LoadLevers(file_layout="bucket(gauge 4)"), True)],
)  # fmt: skip
def test_a_load_killed_at_any_step_ends_in_its_rows_once_and_can_be_taken_back(
    lake: str, table: str, files: tuple[Path, Path], mode: str, levers: LoadLevers, landed: bool,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    old, new = files
    was = 0 if mode == "create" else 400
    before = None
    if was:
        first = run(lake, table, old, levers=MONTHS)
        before = digests(lake, table)
    rows = 900 + (400 if mode == "append" else 0)
    wanted = request(lake, table, new, table_mode=mode, levers=levers)
    for after in itertools.count():
        with monkeypatch.context() as patch:
            kill(patch, after, landed)
            try:
                record = load(wanted, Inline())
                break
            except Killed:
                pass
        with session_of(lake) as session:
            there = session.tables.columns(table)
        if there is not None and was:
            # All of its rows, or none.
            assert ask(lake, f"SELECT count(*) FROM {table}") == [(rows,)] or (
                ask(lake, f"SELECT count(*) FROM {table}") == [(was,)]
            )
    assert after > 5
    assert record.verified is True
    assert load(request(lake, table, new, table_mode="append"), Inline()).done_before
    asked = ask(lake, f"SELECT count(*), count(DISTINCT reading_no) FROM {table}")
    assert asked == [(rows, 1200 if mode == "append" else 900)]
    assert undo(opener(lake), record.load_id).rows_removed == 900
    with pytest.raises(RequestError, match="taken back already"):
        undo(opener(lake), record.load_id)
    if before is None:
        with session_of(lake) as session:
            assert session.tables.columns(table) is None
        return
    assert digests(lake, table) == before
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(400,)]
    assert undo(opener(lake), first.load_id).rows_removed == 400


@pytest.mark.no_cover
def test_an_undo_that_is_killed_at_any_step_is_given_again(
    lake: str, table: str, files: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    run(lake, table, files[0], levers=MONTHS)
    before = digests(lake, table)
    for mode, after in itertools.product(("append", "empty", "replace"), range(1, 16, 5)):
        record = run(lake, table, files[1], table_mode=mode, again=True)
        with monkeypatch.context() as patch:
            kill(patch, after, after % 2 == 0)
            try:
                undo(opener(lake), record.load_id)
            except Killed:
                pass
            else:
                continue
        try:
            undo(opener(lake), record.load_id)
        except RequestError as error:
            assert "taken back already" in str(error)
        assert digests(lake, table) == before
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(400,)]


def test_files_lie_as_they_were_asked_for(lake: str, table: str, files: tuple[Path, Path]) -> None:
    levers = LoadLevers(file_layout="month(day) value(gauge) sort(level) gzip(2) rows(100)")
    run(lake, table, *files, levers=levers)
    found = files_of(lake, table)
    # Two files come of each of two parts where both have the partition.
    assert len({path.parent for path in found}) == 18
    assert all(path.parent.parent.name.startswith("day_month=2031-0") for path in found)
    for path in found:
        file = pq.ParquetFile(path)
        rows = file.read()
        assert len(rows.column("gauge").unique()) == 1
        assert rows.column("level").to_pylist() == sorted(rows.column("level").to_pylist())
        assert file.metadata.row_group(0).column(0).compression == "GZIP"
        assert max(file.metadata.row_group(n).num_rows for n in range(file.num_row_groups)) <= 100
    # A question with a filter reads only the files that it needs, by the table's own metadata.
    scan = table_of(lake, table).scan("day >= '2031-05-01' and day < '2031-06-01'")
    assert {task.file.file_path for task in scan.plan_files()} == {
        f"file://{path}" for path in found if "2031-05" in str(path)
    }
    assert len(scan.to_arrow()) == ask(
        lake, f"SELECT count(*) FROM {table} WHERE month(day) = 5"
    )[0][0]  # fmt: skip
    with pytest.raises(
        RequestError, match=r"has its files month\(day\) value\(gauge\) sort\(level\)"
    ):
        run(lake, table, files[0], levers=MONTHS, table_mode="append", again=True)
    # What does not concern where rows are may change from load to load.
    run(lake, table, files[0], levers=LoadLevers(file_layout="64KiB"), table_mode="append",
        again=True)  # fmt: skip
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(1700,)]


@pytest.mark.no_cover
def test_a_month_that_comes_again_takes_its_own_place(
    lake: str, table: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def month(name: str, number: int, first: int, count: int) -> Path:
        path = tmp_path / name
        rows = [f"{n},LK-{n % 3},{n / 4:.2f},2031-{number:02d}-07\n"
                for n in range(first, first + count)]  # fmt: skip
        path.write_text("".join(rows))
        return path

    def months() -> list[tuple[Any, ...]]:
        return ask(lake, f"SELECT month(day), count(*), min(reading_no) FROM {table} "
                         "GROUP BY 1 ORDER BY 1")  # fmt: skip

    run(lake, table, month("a", 1, 1, 50), month("b", 2, 101, 50), levers=MONTHS)
    untouched = {path for path in files_of(lake, table) if "2031-01" in str(path)}
    again = month("c", 2, 201, 70)
    wanted = request(lake, table, again, month("d", 3, 301, 20), table_mode="renew")
    for after in itertools.count(step=2):
        with monkeypatch.context() as patch:
            kill(patch, after, landed=True)
            try:
                record = load(wanted, Inline())
                break
            except Killed:
                assert months() in (
                    [(1, 50, 1), (2, 50, 101)], [(1, 50, 1), (2, 70, 201), (3, 20, 301)]
                )  # fmt: skip
    assert record.verified is True
    assert months() == [(1, 50, 1), (2, 70, 201), (3, 20, 301)]
    assert untouched < set(files_of(lake, table))
    late = run(lake, table, month("e", 2, 401, 5), table_mode="append")
    assert months() == [(1, 50, 1), (2, 75, 201), (3, 20, 301)]
    # What came later stays; what was there before is there again.
    undone = undo(opener(lake), record.load_id)
    assert (undone.rows_removed, undone.rows_restored) == (90, 50)
    assert months() == [(1, 50, 1), (2, 55, 101)]
    undo(opener(lake), late.load_id)
    assert months() == [(1, 50, 1), (2, 50, 101)]
    plain = run(lake, f"{table}_plain", again)
    other = f"sqlite:///{tmp_path}/x.db"
    for target, name, said in (
        (lake, f"{table}_plain", "no partitions"), (other, table, "tables of files"),
    ):  # fmt: skip
        with pytest.raises(RequestError, match=said):
            run(target, name, month("f", 4, 1, 5), table_mode="renew")
    assert undo(opener(lake), plain.load_id).rows_removed == 70


def test_a_month_gives_way_to_fewer_rows_only_where_someone_agrees(
    lake: str, table: str, tmp_path: Path, splarn: Splarn
) -> None:
    layout = readings(tmp_path / "a.csv", 1, 600).with_suffix(".json")
    write_layout(GAUGES, layout)
    words = ("--layout", layout, "--to", lake, "--table", table, "--file-layout", "month(day)")
    assert splarn("load", tmp_path / "a.csv", *words).code == 0
    readings(tmp_path / "b.csv", 1001, 1040)
    few = ("load", tmp_path / "b.csv", *words, "--table-mode", "renew")
    before = digests(lake, table)
    for _ in range(2):
        refused = splarn(*few, "--json")
        assert refused.code == 2, refused.err
        assert "600 that --table-mode renew would remove" in refused.json["error"]
        assert digests(lake, table) == before
    # Nothing is loaded twice for that: the rows were beside the table all the time.
    agreed = splarn(*few, "--yes", "--json").json
    assert (agreed["verified"], agreed["rows_loaded"]) == (True, 40)
    assert ask(lake, f"SELECT count(*), min(reading_no) FROM {table}") == [(40, 1001)]
    assert undo(opener(lake), agreed["load_id"]).rows_restored == 600
    assert digests(lake, table) == before
    # As many or more need no word.
    assert splarn("load", readings(tmp_path / "c.csv", 2001, 2600), *words, "--table-mode",
                  "renew").code == 0  # fmt: skip
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(600,)]


def test_partitions_are_foreseen_before_the_first_byte(
    lake: str, table: str, tmp_path: Path
) -> None:
    path = tmp_path / "many.csv"
    path.write_text("".join(f"{n},G{n},1.5,\n" for n in range(5000)))
    with pytest.raises(RequestError, match="would make 5,000 partitions of the first 5,000 rows"):
        run(lake, table, path, levers=LoadLevers(file_layout="value(gauge)"))
    assert not Path(lake.removeprefix("lake:///"), "main").exists()
    record = run(lake, table, path, levers=MONTHS)
    assert "5,000 of the first 5,000 rows have no day" in record.notes[0]
    path.write_text("".join(f"{n},G{n % 400},1.5,\n" for n in range(5000)))
    record = run(lake, f"{table}_2", path, levers=LoadLevers(file_layout="value(gauge)"))
    assert "400 partitions" in record.notes[0]


def test_columns_that_nothing_here_writes_are_left_alone(
    lake: str, table: str, files: tuple[Path, Path]
) -> None:
    run(lake, table, files[0])
    found = table_of(lake, table)
    with found.update_schema() as update:
        update.add_column("marks", ListType(100, IntegerType(), element_required=False))
        update.add_column("later", DoubleType())
    record = run(lake, table, files[1], table_mode="append")
    rows = table_of(lake, table).scan().to_arrow()
    assert (len(rows), rows.column("marks").null_count, rows.column("later").null_count) == (
        1300, 1300, 1300,
    )  # fmt: skip
    with pytest.raises(RequestError, match=r"column marks of the type list<int>"):
        compact(CompactRequest(opener(lake), table))
    assert undo(opener(lake), record.load_id).rows_removed == 900


def test_what_went_wrong_is_one_sentence_and_loses_nothing(
    lake: str, table: str, files: tuple[Path, Path], tmp_path: Path
) -> None:
    record = run(lake, table, files[0], levers=MONTHS)
    gone = files_of(lake, table)[0]
    kept = gone.read_bytes()
    gone.unlink()
    with pytest.raises(OutsideError, match=rf"{gone.name} of the table is gone: somebody removed"):
        digests(lake, table)
    gone.write_bytes(kept[:-40])
    with pytest.raises(OutsideError, match=rf"Reading .*{gone.name} failed"):
        digests(lake, table)
    gone.write_bytes(kept)
    # Looking makes nothing, and a catalog that is gone is missed.
    with session_of(f"lake:///{tmp_path}/other") as session:
        assert (session.notes.loads(), session.tables.columns(table)) == ([], None)
    assert not (tmp_path / "other").exists()
    catalog = Path(lake.removeprefix("lake:///"), "catalog.db")
    catalog.rename(tmp_path / "away.db")
    with pytest.raises(OutsideError, match=r"catalog\.db of .* is gone, and there are files"):
        run(lake, table, files[1], table_mode="append")
    (tmp_path / "away.db").rename(catalog)
    assert undo(opener(lake), record.load_id).rows_removed == 400
    for url, said in (
        ("lake://", "needs a folder"), ("lake:///x?region=1", "has no region"),
        ("lake:///x?warehouse=ftp://x", "warehouse ftp://x cannot"),
        ("lake+rest://127.0.0.1:1", "needs a folder"),
    ):  # fmt: skip
        with pytest.raises(RequestError, match=said):
            open_engine(url)
    with pytest.raises(RequestError, match="does not exist"):
        open_engine(f"lake:///{tmp_path}/no/where").connect()
    unreachable = f"lake+rest://127.0.0.1:1?warehouse={tmp_path}/w"
    with pytest.raises(OutsideError, match="failed"):
        run(unreachable, table, files[0])
    for layout, said in (
        ("weekly(day)", "'weekly' is no word"), ("month(gauge)", "gauge is a string"),
        ("month(dya)", "dya, which is no field .the nearest is day"), ("zstd(99)", "no level 99"),
        ("sort()", "names no column"), ("bucket(gauge)", "written like bucket"),
        ("month(day) month(day)", "something twice"), ("snappy(3)", "no levels"),
        ("month(day", "a bracket"),
    ):  # fmt: skip
        with pytest.raises(RequestError, match=said):
            load(request(lake, table, files[0], levers=LoadLevers(file_layout=layout)), Inline())
    with pytest.raises(RequestError, match="lays out no files"):
        load(request(f"sqlite:///{tmp_path}/x.db", table, files[0], levers=MONTHS), Inline())


@pytest.mark.parametrize(
    "text",
    ["plain", "month(day)", "year(day) bucket(gauge 16) sort(level gauge) zstd(6) 64MiB rows(1000)",
     "value(gauge) none 1GiB"],
)  # fmt: skip
def test_layouts_of_files_read_back_as_they_are_written(text: str) -> None:
    assert read_file_layout(text).text() == text
    assert read_file_layout(text.replace(" ", ", ").replace("(day)", "( day )")).text() == text
