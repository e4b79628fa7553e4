"""Benchmarks of a lake: text into a partitioned table and compaction, against Arrow alone."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

from benchmarks.data import narrow_parts
from benchmarks.measure import Row, Timed, compare, run, splarn

TABLE = "gauges"
# Reads text by Arrow, keeps months apart and writes them by Arrow's own partitioned writer.
ARROW_WRITES = """
import sys, pyarrow as pa, pyarrow.csv as csv, pyarrow.compute as pc, pyarrow.dataset as ds
folder, into = sys.argv[1:]
kinds = {"reading_no": pa.int64(), "gauge": pa.string(), "day": pa.date32(),
         "level_mm": pa.int64(), "flow": pa.decimal128(9, 2)}
def batches():
    for path in sorted(ds.dataset(folder, format="csv").files):
        options = csv.ConvertOptions(column_types=kinds)
        names = csv.ReadOptions(column_names=list(kinds), block_size=8 << 20)
        for batch in csv.open_csv(path, read_options=names, convert_options=options):
            month = pc.floor_temporal(batch.column("day"), unit="month")
            yield pa.RecordBatch.from_arrays([*batch.columns, month], names=[*kinds, "month"])
schema = pa.schema([*kinds.items(), ("month", pa.date32())])
form = ds.ParquetFileFormat()
ds.write_dataset(batches(), into, format=form, schema=schema, partitioning=["month"],
                 partitioning_flavor="hive", existing_data_behavior="delete_matching",
                 file_options=form.make_write_options(compression="zstd"))
"""
# Reads the small files of each partition by Arrow and writes one in their place.
ARROW_MERGES = """
import sys, pathlib, pyarrow.dataset as ds, pyarrow.parquet as pq
folder, into = map(pathlib.Path, sys.argv[1:])
for month in sorted(folder.rglob("data/*")):
    small = ds.dataset(month, format="parquet")
    target = into / month.name
    target.mkdir(parents=True, exist_ok=True)
    with pq.ParquetWriter(target / "one.parquet", small.schema, compression="zstd") as file:
        for batch in small.to_batches():
            file.write_batch(batch)
"""


def _emptied(folder: Path) -> None:
    shutil.rmtree(folder, ignore_errors=True)


def written(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Text into a table by months: verified, and not looked at again."""
    parts, size = narrow_parts(folder, int(5e6 * scale))
    lake, out, rows = folder / "lake", folder / "arrow", list[Row]()
    plain = folder / "plain"
    plain.mkdir(exist_ok=True)
    for part in parts.glob("*-0*"):
        (plain / f"{part.name}.csv").unlink(missing_ok=True)
        (plain / f"{part.name}.csv").symlink_to(part)
    for verify in ("--no-verify", "--verify"):
        words = ("--to", f"lake:///{lake}", "--table", TABLE, "--streams", 2, "--json", verify)

        def ours(words: tuple[object, ...] = words) -> Timed:
            _emptied(lake)
            layout = ("--file-layout", "month(day)")
            return run(splarn("load", parts, *words, *layout), folder)

        def theirs() -> Timed:
            _emptied(out)
            return run([sys.executable, "-c", ARROW_WRITES, plain, out], folder)

        reach = 1.2 if verify == "--no-verify" else None
        what = "text into a lake by months" + ", verified" * (verify == "--verify")
        rows += compare(what, "Arrow's reader and its partitioned writer", ours, theirs, repeats,
                        reach, size)  # fmt: skip
    return rows


def compacted(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Twelve partitions of many small files into one file each."""
    parts, size = narrow_parts(folder, int(5e6 * scale))
    made, out = folder / "small", folder / "arrow"
    if not made.exists():
        words = ("--to", f"lake:///{made}", "--table", TABLE, "--file-layout",
                 "month(day) 256KiB", "--no-verify")  # fmt: skip
        run(splarn("load", parts, *words), folder)

    def ours() -> Timed:
        # Addresses in it are whole, so that each try begins with the table where it was made.
        shutil.copytree(made, folder / "kept")
        words = ("--to", f"lake:///{made}", "--table", TABLE, "--size", "512MiB", "--json")
        timed = run(splarn("compact", *words), folder)
        shutil.rmtree(made)
        (folder / "kept").rename(made)
        return timed

    def theirs() -> Timed:
        _emptied(out)
        return run([sys.executable, "-c", ARROW_MERGES, made / "main", out], folder)

    return compare("compaction of small files", "Arrow's reader and writer", ours, theirs, repeats,
                   0.8, size)  # fmt: skip


LAKE = {"lake": written, "compact": compacted}
