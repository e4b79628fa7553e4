"""Rows on their way into the files of a lake, and the groups that a forecast expects of them."""

from __future__ import annotations

import errno
import io
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from pyarrow import parquet

from splarn.core.errors import OutsideError
from splarn.core.inference.infer import infer_layout
from splarn.core.lake import writing
from splarn.core.lake.columns import columns_of, schema_of, stored
from splarn.core.lake.partitions import groups
from splarn.core.lake.writing import PartitionedWriter
from splarn.core.layout import Field
from splarn.core.layout.file_layout import FileLayout, read_file_layout
from splarn.core.scans import cutting
from splarn.core.scans.asked import Keys
from splarn.core.scans.look import take_look
from splarn.core.source.source import Source
from splarn.core.work.pool import Inline
from tests.core.test_scans import deliver

COLUMNS = columns_of(
    [Field("reading_no", "integer"), Field("gauge", "string"), Field("taken", "datetime"),
     Field("level", "number", precision=9, scale=2), Field("note", "string")], 1,
)  # fmt: skip
LAYOUTS = ["", "sort(gauge reading_no)", "month(taken)", "day(taken)", "value(gauge)",
           "month(taken) value(gauge) sort(level)", "bucket(gauge 5) sort(taken)"]  # fmt: skip


class Made(io.FileIO):
    """A new file, as writers want it."""

    def __init__(self, path: str) -> None:
        Path(path).parent.mkdir(parents=True, exist_ok=True)
        super().__init__(path, "wb")

    def abandon(self) -> None:
        self.close()


def readings(rows: int, chance: np.random.Generator) -> Any:
    """Readings of a year, by time or in no order, some of whose cells are empty."""
    seconds = chance.integers(0, 365 * 86_400, rows)
    if chance.random() < 0.5:
        seconds.sort()
    given = pa.table({
        "reading_no": np.arange(rows),
        "gauge": pa.array([f"RM-{n}" for n in chance.zipf(1.6, rows) % 17],
                          mask=chance.random(rows) < 0.03),
        "taken": pa.array(np.datetime64("2031-01-01", "us") + seconds * np.timedelta64(1, "s"),
                          mask=chance.random(rows) < 0.03),
        "level": pa.array(chance.integers(0, 9_000, rows)).cast(pa.decimal128(19)).cast("float64"),
        "note": pa.array([None if n % 3 else "calm" * int(n % 60) for n in range(rows)]),
    })  # fmt: skip
    return stored(given, COLUMNS)


def small(patch: pytest.MonkeyPatch, chance: np.random.Generator) -> None:
    """All that is held and kept open is little, so that every limit is met."""
    for name, low, high in (
        ("HELD_BYTES", 8 << 10, 256 << 10), ("LOOSE_BYTES", 1 << 10, 64 << 10),
        ("OPEN_ROWS", 500, 40_000), ("WAITING_BYTES", 64 << 10, 4 << 20),
    ):  # fmt: skip
        patch.setattr(writing, name, int(chance.integers(low, high)))


@pytest.mark.parametrize("seed", range(28))
def test_every_row_is_in_one_file_of_its_partition(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    chance = np.random.default_rng(seed)
    small(monkeypatch, chance)
    rows = readings(int(chance.integers(1, 30_000)), chance)
    size = chance.choice(["", "16KiB", "64KiB"])
    layout = read_file_layout(f"{LAYOUTS[seed % 7]} rows({chance.integers(200, 9_000)}) {size}")
    writer = PartitionedWriter(Made, str(tmp_path), schema_of(COLUMNS), layout, "made")
    most, first = 0, 0
    while first < len(rows):
        count = int(chance.integers(1, 4_000))
        writer.put(rows.slice(first, count))
        first += count
        # What was written to last is always open.
        still = [file.most_rows for file in writer._open.values()]
        most = max([most, sum(sorted(still)[:-1])])
    files = writer.close()
    held = writing.HELD_BYTES // 20 + layout.group_rows
    assert most <= writing.OPEN_ROWS + held
    assert writer.close() == []
    found = []
    for file in files:
        path = Path(file.path)
        with parquet.ParquetFile(path) as one:
            there = one.read()
            assert (len(there), path.stat().st_size) == (file.rows, file.bytes)
            (group,) = groups(there, layout.partition)
            assert group.values == file.partition
            for number in range(one.num_row_groups):
                some = one.read_row_group(number)
                assert 0 < len(some) <= layout.group_rows
                if layout.sort:
                    keys = [(name, "ascending") for name in layout.sort]
                    assert some.select(layout.sort).equals(some.select(layout.sort).sort_by(keys))
        found.append(there.cast(rows.schema))
    assert pa.concat_tables(found).sort_by("reading_no").equals(rows.combine_chunks())


def test_groups_of_many_partitions_are_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    chance = np.random.default_rng(5)
    monkeypatch.setattr(writing, "HELD_BYTES", 128 << 10)
    rows = readings(60_000, chance).take(chance.permutation(60_000))
    layout = read_file_layout("day(taken) rows(400)")
    writer = PartitionedWriter(Made, str(tmp_path), schema_of(COLUMNS), layout, "made")
    for first in range(0, 60_000, 1_000):
        writer.put(rows.slice(first, 1_000))
        # Of so many none is worth a file that is open, but for readings without a day.
        assert not writer._open.keys() - {(None,)}
    files = writer.close()
    assert len(files) == 366
    for file in files:
        if file.partition != (None,):
            assert parquet.read_metadata(file.path).num_row_groups == -(-file.rows // 400)


def test_wide_rows_that_waited_are_written_in_groups_that_fit(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(writing, "HELD_BYTES", 256 << 10)
    notes = pa.array([f"{n} " + "calm " * 400 for n in range(2_000)])
    rows = readings(2_000, np.random.default_rng(4)).set_column(4, "note", notes)
    rows = rows.take(np.random.default_rng(5).permutation(2_000))
    layout = read_file_layout("value(gauge)")
    writer = PartitionedWriter(Made, str(tmp_path), schema_of(COLUMNS), layout, "made")
    for first in range(0, 2_000, 20):
        writer.put(rows.slice(first, 20))
    ends = [parquet.read_metadata(file.path) for file in writer.close()]
    groups = [end.row_group(n).num_rows for end in ends for n in range(end.num_row_groups)]
    assert sum(groups) == 2_000
    # Some 2 KiB a row.
    assert max(groups) <= 2 * (256 << 10) // 2_000


@pytest.mark.parametrize("when", ["write", "close"])
def test_rows_that_cannot_wait_are_told_of_and_nothing_is_left(
    when: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(writing, "HELD_BYTES", 128 << 10)
    monkeypatch.setattr(writing, "WAITING_BYTES", 1 << 30 if when == "write" else 1 << 20)

    class Full(io.BytesIO):
        def write(self, data: Any) -> int:
            if self.tell() > 600_000:
                raise OSError(errno.ENOSPC, "No space left on device")
            return super().write(data)

    layout = read_file_layout("day(taken)")
    writer = PartitionedWriter(Made, str(tmp_path), schema_of(COLUMNS), layout, "made", Full)
    rows = readings(60_000, np.random.default_rng(2)).take(
        np.random.default_rng(3).permutation(60_000)
    )
    with pytest.raises(OutsideError, match="wait for others of their partition failed: the disk"):
        for first in range(0, 60_000, 1_000):
            writer.put(rows.slice(first, 1_000))
    for path in writer.abandon():
        Path(path).unlink()
    assert not [path for path in tmp_path.rglob("*") if path.is_file()]
    assert writer.close() == []


@pytest.mark.parametrize("ordered", [True, False])
@pytest.mark.parametrize("layout", ["month(entered)", "day(entered) sort(toll)",
                                    "value(lock_code) sort(entered) rows(1000)"])  # fmt: skip
def test_a_forecast_expects_the_groups_that_are_written(
    layout: str, ordered: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(writing, "HELD_BYTES", 256 << 10)
    monkeypatch.setattr(cutting, "HELD_BYTES", 256 << 10)
    wanted = read_file_layout(layout)
    paths = deliver(tmp_path / "in", 40_000, 2, ordered)
    how = infer_layout(paths).layout
    look = take_look(list(map(Source.of, paths)), how, list(wanted.columns), Inline())
    assert look.whole
    keys = Keys(look, how.fields, list(wanted.columns))
    foretold = cutting.as_loaded(look, keys, wanted)
    told, all_of_them = _spread(foretold.rows, foretold.times)
    made = [
        count
        for number, rows in enumerate(_by_file(look))
        for count in _written(rows, look.columns, wanted, tmp_path / str(number))
    ]
    mine, every = _spread(np.array(made, float), np.ones(len(made)))
    assert (every, all_of_them) == (40_000, pytest.approx(40_000))
    assert mine == pytest.approx(told, rel=0.05)


def _spread(rows: Any, times: Any) -> tuple[tuple[float, float], float]:
    """How many groups, the size of that in which a row lies on average, and all rows."""
    total = float((rows * times).sum())
    return (float(times.sum()), float((rows**2 * times).sum() / total)), total


def _by_file(look: Any) -> list[Any]:
    """All rows of a delivery that was looked at whole, by the file that they came in."""
    rows = pa.concat_tables(look.windows)
    half = len(rows) // 2
    return [rows.slice(0, half), rows.slice(half)]


def _written(rows: Any, columns: Any, layout: FileLayout, folder: Path) -> list[int]:
    """The rows of each group that is written of some."""
    writer = PartitionedWriter(Made, str(folder), schema_of(columns), layout, "made")
    for first in range(0, len(rows), 500):
        writer.put(rows.slice(first, 500))
    found = []
    for file in writer.close():
        end = parquet.read_metadata(file.path)
        found += [end.row_group(number).num_rows for number in range(end.num_row_groups)]
    return found
