"""Benchmarks of the stages before the load: survey, check and shape."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable
from pathlib import Path

from benchmarks.data import ROW_BYTES, apart, cleaned, one_file
from benchmarks.measure import Row, Timed, compare, have, missing, run, splarn

PART = "64MiB"


def _shaping(folder: Path, path: Path, layout: Path, codec: str) -> Callable[[], Timed]:
    parts = folder / "ours"

    def ours() -> Timed:
        shutil.rmtree(parts, ignore_errors=True)
        words = ("--into", parts, "--part-size", PART, "--codec", codec, "--workers", 2)
        return run(splarn("shape", path, "--layout", layout, *words), folder)

    return ours


def _splitting(folder: Path, path: Path, filter_: str) -> Callable[[], Timed]:
    parts = folder / "theirs"

    def theirs() -> Timed:
        shutil.rmtree(parts, ignore_errors=True)
        parts.mkdir()
        return run(f"split -C 64M --filter='{filter_} > $FILE' {path} {parts}/part-", folder)

    return theirs


def _size(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.iterdir() if path.suffix != ".json")


def shape(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Cutting and compressing one large file with two workers."""
    path, layout = one_file(folder, 500e6 * scale)
    size = path.stat().st_size
    rows = []
    for codec, tool, filter_, reach in (
        ("gzip:1", "pigz", "pigz -1 -p 2", 2.0),
        ("zstd:3", "zstd", "zstd -T2 -q", None),
        ("zstd:1", "zstd", "zstd -1 -T2 -q", 1.2),
    ):
        work, against = f"shape {size / 1e6:.0f} MB into {PART} {codec}", f"split, {filter_}"
        if not have(tool):
            rows.append(missing(work, against, tool))
            continue
        ours = _shaping(folder, path, layout, codec)
        (row,) = compare(
            work, against, ours, _splitting(folder, path, filter_), repeats, reach, size
        )
        share = f"; packed to {_size(folder / 'ours') / size:.1%} against "
        share += f"{_size(folder / 'theirs') / size:.1%}"
        rows.append(Row(**{**row.__dict__, "detail": row.detail + share}))
    return rows


_ARROW = """
import sys
from pathlib import Path
from pyarrow import csv
from splarn.core.layout.descriptor import read_layout
layout = read_layout(Path(sys.argv[2]))
csv.read_csv(sys.argv[1], parse_options=csv.ParseOptions(
    newlines_in_values=True, invalid_row_handler=lambda row: "skip"), convert_options=
    csv.ConvertOptions(column_types=layout.arrow_schema, strings_can_be_null=True))
"""


def check(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Holding clean rows against their layout."""
    path, layout = one_file(folder, 500e6 * scale)
    clean = path.with_name("clean.csv")
    if not clean.exists():
        apart(cleaned, path, layout, clean)
    size = clean.stat().st_size
    return compare(
        f"check {size / ROW_BYTES / 1e6:.1f} M typed rows",
        "Arrow's typed CSV read",
        lambda: run(splarn("check", clean, "--layout", layout, "--workers", 2), folder),
        lambda: run([sys.executable, "-c", _ARROW, str(clean), str(layout)], folder),
        repeats,
        0.85,
        size,
    )


_READ = """
import os, sys
for entry in os.scandir(sys.argv[1]):
    file = os.open(entry.path, os.O_RDONLY)
    os.read(file, 65536)
    os.close(file)
"""


def survey(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Looking at many small files."""
    count = int(20_000 * scale)
    many = folder / f"many-{count}"
    if not many.exists():
        many.mkdir()
        for number in range(count):
            rows = "".join(f"{number},{row},LK-001,two on board\n" for row in range(2000))
            (many / f"gauges-{number:05d}.csv").write_text("gauge,row,lock,note\n" + rows)
    size = sum(path.stat().st_size for path in many.iterdir())
    read = f"find {many} -printf '%s %T@ %p\\n' && {sys.executable} -c '{_READ}' {many}"
    return compare(
        f"survey {count:,} files of 64 KiB",
        "find -printf, and reading 64 KiB of each",
        lambda: run(splarn("survey", many, "--show", 3), folder),
        lambda: run(read, folder),
        repeats,
        0.6,
        size,
    )


def memory(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Peak memory of check and shape as the input grows tenfold."""
    rows = []
    peaks: dict[str, list[int]] = {"check": [], "shape": []}
    for size in (500e6 * scale, 5000e6 * scale):
        path, layout = one_file(folder, size)
        peaks["check"].append(run(splarn("check", path, "--layout", layout), folder).peak)
        peaks["shape"].append(_shaping(folder, path, layout, "zstd:1")().peak)
    for work, (small, large) in peaks.items():
        detail = f"largest process {small >> 20} MiB, then {large >> 20} MiB"
        title = f"{work}: memory at {0.5 * scale:g} GB and at {5 * scale:g} GB"
        rows.append(Row(title, "itself", small / large, small / large, small / large, 1, detail))
    return rows


PREPARE: dict[str, Callable[[Path, int, float], list[Row]]] = {
    "shape": shape,
    "check": check,
    "survey": survey,
    "memory": memory,
}
