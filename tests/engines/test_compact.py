"""Compaction: fewer files with the same rows, whatever breaks off and whoever writes meanwhile."""

from __future__ import annotations

import itertools
import os
import threading
from dataclasses import replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import splarn as library
from splarn.core import kernel
from splarn.core.errors import OutsideError, RequestError
from splarn.core.lake.compaction import CompactPlan, CompactRequest, chosen, compact
from splarn.core.lake.ordering import in_order, regrouped
from splarn.core.lake.owners import Owners, owners_in
from splarn.core.layout.file_layout import FileLayout
from splarn.core.load import undo
from splarn.core.target.levers import LoadLevers
from splarn.core.target.merging import Merged, MergeOrder, SeenFile
from splarn.engines import opener
from splarn.engines.lake.catalog import LakeCatalog
from splarn.engines.lake.merging import LakeMerging
from splarn.engines.lake.storage import local_path
from tests.conftest import Splarn, ask
from tests.engines.lives import digests, readings, run
from tests.engines.test_lake import Killed, files_of, kill, table_of

pytestmark = pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
MONTHS = LoadLevers(file_layout="month(day) sort(level)")


@pytest.fixture
def loads(lake: str, table: str, tmp_path: Path) -> list[str]:
    """The ids of five loads, each with files in nine partitions."""
    paths = [readings(tmp_path / f"{n}.csv", 1 + n * 100, 100 + n * 100) for n in range(5)]
    modes = ["create", *["append"] * 4]
    return [
        run(lake, table, path, table_mode=mode, levers=MONTHS).load_id
        for path, mode in zip(paths, modes, strict=True)
    ]


def merged(lake: str, table: str, **more: Any) -> Any:
    return compact(CompactRequest(opener(lake), table, **more))


def test_files_become_fewer_and_every_load_can_still_be_taken_back(
    lake: str, table: str, loads: list[str]
) -> None:
    before, plans = digests(lake, table), list[CompactPlan]()

    def agree(plan: CompactPlan) -> bool:
        plans.append(plan)
        return True

    record = compact(CompactRequest(opener(lake), table), agree=agree)
    plan = plans[0]
    assert (plan.files, record.files_after, record.merged, record.verified) == (45, 9, 9, True)
    assert plan.files_after == 9
    assert plan.seconds is not None
    assert plan.saved > 0
    assert 0.5 < record.bytes_after / plan.bytes_after < 2
    assert len(files_of(lake, table)) == 9
    assert digests(lake, table) == before
    for path in files_of(lake, table):
        levels = pq.read_table(path).column("level").to_pylist()
        assert levels == sorted(levels)
    assert merged(lake, table).merged == 0
    # Each load's rows are known in the files that several share, and go alone.
    asked = f"SELECT count(*), count(*) FILTER (reading_no BETWEEN 201 AND 300) FROM {table}"
    assert undo(opener(lake), loads[2]).rows_removed == 100
    assert ask(lake, asked) == [(400, 0)]
    assert library.compact(lake, table=table, sort=["reading_no"]).verified is True
    for path in files_of(lake, table):
        numbers = pq.read_table(path).column("reading_no").to_pylist()
        assert numbers == sorted(numbers)
    for number, load_id in enumerate([*loads[:2], *loads[3:]], 1):
        assert undo(opener(lake), load_id, with_changes=True).rows_removed == 100
        if number < 4:
            assert ask(lake, f"SELECT count(*) FROM {table}") == [(400 - 100 * number,)]


@pytest.mark.no_cover
@pytest.mark.parametrize("landed", [False, True], ids=["before", "after"])
def test_a_compaction_killed_at_any_step_goes_on_and_leaves_nothing(
    lake: str, table: str, loads: list[str], landed: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = digests(lake, table)
    for after in itertools.count(step=3):
        with monkeypatch.context() as patch:
            kill(patch, after, landed)
            try:
                merged(lake, table)
                break
            except Killed:
                pass
        assert ask(lake, f"SELECT count(*), count(DISTINCT reading_no) FROM {table}") == [
            (500, 500)
        ]
    assert after > 6
    merged(lake, table)
    assert (len(files_of(lake, table)), digests(lake, table)) == (9, before)
    folder = Path(lake.removeprefix("lake:///"))
    assert list((folder / "splarn" / "merged").rglob("*.json")) == []


@pytest.mark.parametrize("quick", [True, False])
def test_new_files_that_hold_other_values_are_not_committed(
    lake: str, table: str, loads: list[str], quick: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also where the quick hash was not built."""
    monkeypatch.setattr(kernel, "available", lambda: quick)
    written, before = LakeMerging._written, digests(lake, table)

    def spoiled(self: LakeMerging, order: MergeOrder, files: Any) -> Any:
        made, total = written(self, order, files)
        path = local_path(made[0].path)
        rows = pq.read_table(path)
        other = rows.column("gauge").to_pylist()
        other[0] = other[0][::-1]
        field = rows.schema.field("gauge")
        rows = rows.set_column(1, field, pa.array(other))
        pq.write_table(rows, path, compression="zstd")
        return [replace(made[0], bytes=path.stat().st_size), *made[1:]], total

    monkeypatch.setattr(LakeMerging, "_written", spoiled)
    with pytest.raises(OutsideError, match="or other values: nothing was changed"):
        merged(lake, table)
    monkeypatch.setattr(LakeMerging, "_written", written)
    assert merged(lake, table).verified is True
    assert digests(lake, table) == before


def test_merges_that_were_written_are_not_written_again(
    lake: str, table: str, loads: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    merge, done = LakeMerging.merge, list[str]()

    def until(self: LakeMerging, order: MergeOrder) -> Merged:
        if len(done) == 6:
            raise Killed
        done.append(order.files[0].partition)
        return merge(self, order)

    monkeypatch.setattr(LakeMerging, "merge", until)
    with pytest.raises(Killed):
        merged(lake, table)
    monkeypatch.undo()
    # Those of another size are no use.
    assert merged(lake, table, partitions=("2031-01",), file_bytes=1 << 20).resumed == 0
    record = merged(lake, table)
    assert (record.merged, record.files_after) == (8, 9)
    assert record.resumed >= 5


def test_what_others_commit_meanwhile_is_kept(
    lake: str, table: str, loads: list[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    carry_out, told = LakeCatalog._carry_out, list[str]()

    def beside(self: LakeCatalog, found: Any, change: Any) -> None:
        if "splarn.compacted" in change.summary and not told:
            told.append("here")
            more = readings(tmp_path / "more.csv", 501, 560)
            run(lake, table, more, table_mode="append")
            # Rows of files that are being merged go away.
            undo(opener(lake), loads[0])
        carry_out(self, found, change)

    monkeypatch.setattr(LakeCatalog, "_carry_out", beside)
    record = merged(lake, table)
    monkeypatch.undo()
    assert (record.merged, record.left) == (0, 9)
    assert ask(lake, f"SELECT count(*), count(DISTINCT reading_no) FROM {table}") == [(460, 460)]
    record = merged(lake, table)
    assert (record.merged, record.left, record.files_after) == (9, 0, 9)
    assert ask(lake, f"SELECT count(*), count(DISTINCT reading_no) FROM {table}") == [(460, 460)]


def test_two_compactions_at_once_do_not_get_in_each_others_way(
    lake: str, table: str, loads: list[str]
) -> None:
    told: list[Any] = []

    def one() -> None:
        try:
            told.append(merged(lake, table).merged)
        except OutsideError as error:
            told.append(str(error))

    def agree(plan: CompactPlan) -> bool:
        other = threading.Thread(target=one)
        other.start()
        other.join()
        return True

    record = compact(CompactRequest(opener(lake), table), agree=agree)
    assert (record.merged, record.files_after) == (9, 9)
    assert "Another compaction" in told[0]


def test_what_is_removed_is_said_first_and_only_that_goes(
    lake: str, table: str, loads: list[str], splarn: Splarn
) -> None:
    words = ["compact", "--to", lake, "--table", table]
    assert splarn(*words, "--dry-run", "--json").json["files_after"] == 45
    done = splarn(*words, "--partition", "2031-02", "--json").json
    assert (done["files_before"], done["files_after"], done["merges"]) == (45, 41, 1)
    done = splarn(*words, "--older-than", "1h", "--json").json
    assert (done["files_after"], done["merges"]) == (41, 0)
    assert splarn(*words).code == 0
    folder = Path(lake.removeprefix("lake:///"))
    stray = files_of(lake, table)[0].with_name("0000000000000001-00000000-0001.parquet")
    stray.write_bytes(b"PAR1")
    os.utime(stray, (1, 1))
    before = set(folder.rglob("*.parquet"))
    said = splarn(*words, "--forget", "0s", "--strays", "1h")
    assert "states from before and " in said.out
    assert "No longer reachable then: 1 file of" in said.out
    assert "give --yes" in said.out
    assert before == set(folder.rglob("*.parquet"))
    assert splarn(*words, "--forget", "0s", "--strays", "1h", "--yes").code == 0
    assert set(folder.rglob("*.parquet")) == set(files_of(lake, table))
    assert len(table_of(lake, table).snapshots()) == 1
    assert ask(lake, f"SELECT count(*) FROM {table}") == [(500,)]
    undo(opener(lake), loads[1])
    # A state that a load needs to be taken back is kept by its name, whatever its age.
    again = run(lake, table, readings(folder.parent / "new.csv", 1, 60), table_mode="empty")
    assert splarn(*words, "--forget", "0s", "--yes").code == 0
    assert undo(opener(lake), again.load_id).rows_restored == 400


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--partition", "2032-01"], "has no partition 2032-01"),
        (["--sort", "levle"], "the nearest is level"),
        (["--strays", "5m"], "younger than an hour"),
        (["--table", "nothing"], "There is no table nothing"),
        (["--size", "large"], "is no size"),
    ],
)
def test_what_cannot_be_compacted_is_one_sentence(
    lake: str, table: str, tmp_path: Path, splarn: Splarn, words: list[str], said: str
) -> None:
    run(lake, table, readings(tmp_path / "a.csv", 1, 50), levers=MONTHS)
    ended = splarn("compact", "--to", lake, "--table", table, *words)
    assert ended.code == 2
    assert said in ended.err.splitlines()[0]
    assert "Traceback" not in ended.err
    with pytest.raises(RequestError, match="keeps no tables as files"):
        merged(f"sqlite:///{tmp_path}/x.db", table)


def test_neighbours_are_merged_towards_the_size_and_no_further() -> None:
    files = [SeenFile(f"{p}{n}", 10, size, p, float(n))
             for p in "ab" for n, size in enumerate((40, 30, 30, 90, 20, 20, 60, 5))]  # fmt: skip
    request = CompactRequest(opener("lake:///x"), "t", 100)
    orders = chosen(files, "t", FileLayout(), request)
    assert [[one.path for one in order.files] for order in orders] == [
        [f"{p}{n}" for n in group] for p in "ab" for group in ((0, 1, 2), (4, 5, 6, 7))
    ]  # fmt: skip
    recent = chosen(
        files, "t", FileLayout(), CompactRequest(opener("lake:///x"), "t", 100, before=2.0)
    )
    assert [len(order.files) for order in recent] == [3, 3]
    both = chosen(files, "t", FileLayout(), CompactRequest(opener("lake:///x"), "t", sort=("n",)))
    assert [len(order.files) for order in both] == [8, 8]


def test_more_rows_than_fit_are_sorted_by_stretches_and_owners_come_along() -> None:
    import numpy as np
    import pyarrow as pa

    chance = np.random.default_rng(7)
    rows = [
        pa.table({
            "key": pa.array([None if n % 17 == 0 else int(n) for n in chance.integers(0, 90, 500)]),
            "row": pa.array(range(first, first + 500)),
        })
        for first in range(0, 3000, 500)
    ]  # fmt: skip
    for passes in (1, 2, 7, 400):
        done = pa.concat_tables(in_order(rows, ("key", "row"), passes))
        keys = list(zip(*(done.column(n).to_pylist() for n in ("key", "row")), strict=True))
        assert keys == sorted(
            keys,
            key=lambda pair: (pair[0] is None, *(pair if pair[0] is not None else (0, pair[1]))),
        )
        assert len(keys) == 3000
    assert [len(one) for one in regrouped(iter(rows), 700)] == [700, 700, 700, 700, 200]
    owners = Owners((5, 1 << 61), np.array([0, 1, 1, 0] * 500, dtype=np.uint32))
    back = owners_in({b"splarn.owners": owners.text().encode()})
    assert back is not None
    assert back.loads == owners.loads
    assert (back.of_rows == owners.of_rows).all()
    assert back.mask(lambda load: load == 5).sum() == 1000
