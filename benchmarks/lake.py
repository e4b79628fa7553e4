"""Benchmarks of a lake: text into a partitioned table and compaction, against Arrow alone."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Sequence
from pathlib import Path

from benchmarks.data import narrow_parts
from benchmarks.load import made_parts
from benchmarks.measure import Row, Timed, compare, run, splarn
from splarn.core.shape import read_manifest

TABLE = "gauges"
# Reads text by Arrow, keeps months apart and writes them by Arrow's own partitioned writer.
ARROW_WRITES = """
import sys, pyarrow as pa, pyarrow.csv as csv, pyarrow.compute as pc, pyarrow.dataset as ds
folder, into, by, types = sys.argv[1:]
schema = pa.ipc.read_schema(pa.py_buffer(bytes.fromhex(types)))
def batches():
    for path in sorted(ds.dataset(folder, format="csv").files):
        names = csv.ReadOptions(column_names=schema.names, block_size=8 << 20)
        quoted = csv.ParseOptions(newlines_in_values=True)
        options = csv.ConvertOptions(column_types=schema, strings_can_be_null=True)
        reader = csv.open_csv(path, read_options=names, parse_options=quoted,
                              convert_options=options)
        for batch in reader:
            month = pc.floor_temporal(batch.column(by), unit="month").cast(pa.date32())
            yield pa.RecordBatch.from_arrays([*batch.columns, month], names=whole.names)
whole = schema.append(pa.field("month", pa.date32()))
form = ds.ParquetFileFormat()
ds.write_dataset(batches(), into, format=form, schema=whole, partitioning=["month"],
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
    """Text into a table by months: verified, and not looked at again; and of narrow rows."""
    parts, _, size = made_parts(folder, scale)
    narrow, narrow_size = narrow_parts(folder, int(5e6 * scale))
    return [
        *_written(folder, parts, size, "entered", ("--no-verify", "--verify"), repeats),
        *_written(folder, narrow, narrow_size, "day", ("--no-verify",), repeats),
    ]


def _written(
    folder: Path, parts: Path, size: int, by: str, ways: Sequence[str], repeats: int
) -> list[Row]:
    lake, out, plain = folder / "lake", folder / "arrow", folder / f"plain-{by}"
    plain.mkdir(exist_ok=True)
    for part in parts.glob("*-0*"):
        (plain / part.name).unlink(missing_ok=True)
        (plain / part.name).symlink_to(part)
    types = read_manifest(parts).layout.arrow_schema.serialize().to_pybytes().hex()
    rows = list[Row]()
    for verify in ways:
        words = ("--to", f"lake:///{lake}", "--table", TABLE, "--streams", 2, "--json", verify,
                 "--file-layout", f"month({by})")  # fmt: skip

        def ours(words: tuple[object, ...] = words) -> Timed:
            _emptied(lake)
            return run(splarn("load", parts, *words), folder)

        def theirs() -> Timed:
            _emptied(out)
            return run([sys.executable, "-c", ARROW_WRITES, plain, out, by, types], folder)

        reach = 1.2 if verify == "--no-verify" and by == "entered" else None
        what = "narrow rows" if by == "day" else "text"
        what += " into a lake by months" + ", verified" * (verify == "--verify")
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
