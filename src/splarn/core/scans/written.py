"""A sample written for real in some layout of files, and questions read back from it."""

from __future__ import annotations

import io
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from splarn.core.lake.columns import schema_of
from splarn.core.lake.writing import PartitionedWriter, RowsFile
from splarn.core.layout.file_layout import FileLayout
from splarn.core.scans.asked import Wanted
from splarn.core.scans.look import Look
from splarn.core.work.disk import outside

# What readers fetch of a file's end, for its footer, and the largest gap that they read through.
TAIL_BYTES = 64 << 10
HOLE_BYTES = 8 << 10
# Rows are given to a writer in pieces as a load has them.
AT_ONCE = 1 << 16
# By what share fewer rows are written to see how sizes go on.
FEWER = 4
# Of so many small loads of each window it is enough to see what comes.
MOST_PIECES = 32
# How files begin and end; before the end stands the length of the footer.
MARK = b"PAR1"
FOOTER_END = 4 + len(MARK)
# Sizes of rows are told apart by so many steps a doubling.
STEPS = 2
# How bytes a row may go on with the size of a group beyond those that were written.
SLOPES = (-0.3, 0.05)


@dataclass(frozen=True)
class Sizes:
    """Bytes a row of each column in groups of so many rows, from groups that were written.

    `logs` are the logarithms of their rows, ascending, `each` of shape (sizes, columns) the logs of
    bytes a row, `slopes` how these go on behind the last.
    """

    logs: Any
    each: Any
    slopes: Any

    @classmethod
    def of(cls, rows: Any, sizes: Any) -> Sizes:
        """Of groups of `rows` rows and `sizes` of shape (groups, columns)."""
        place = np.round(np.log2(np.maximum(rows, 1)) * STEPS).astype(int)
        logs, each = [], []
        for step in np.unique(place):
            mine = place == step
            count = rows[mine].sum()
            logs.append(np.log(count / mine.sum()))
            each.append(np.log(np.maximum(sizes[mine].sum(axis=0), 1e-3) / count))
        found = np.array(each)
        slopes = np.zeros(found.shape[1])
        if len(logs) > 1:
            slopes = np.clip((found[-1] - found[-2]) / (logs[-1] - logs[-2]), *SLOPES)
        return cls(np.array(logs), found, slopes)

    def bytes(self, rows: Any) -> Any:
        """Bytes of each column in groups of so many rows, shape (groups, columns)."""
        logs = np.log(np.maximum(rows, 1))
        each = np.stack([np.interp(logs, self.logs, one) for one in self.each.T], axis=1)
        beyond = np.maximum(logs - self.logs[-1], 0)[:, None]
        found: Any = np.exp(each + beyond * self.slopes) * np.asarray(rows)[:, None]
        return found


@dataclass(frozen=True)
class Written:
    """What came of writing the sample.

    `seconds` and `rows` are of the writing, `footer` the bytes of a file's footer without groups
    and `footer_group` those of each group. `opening` is what opening a file takes, and
    `reading` by question what a row takes that is read.
    """

    sizes: Sizes
    seconds: float
    rows: int
    footer: float
    footer_group: float
    opening: float
    reading: tuple[float, ...]


class _New(io.FileIO):
    """A file that is being written, as writers want it."""

    def abandon(self) -> None:
        self.close()


def _create(path: str) -> Any:
    Path(path).parent.mkdir(parents=True, exist_ok=True)
    return _New(path, "wb")


def write_sample(
    look: Look, layout: FileLayout, rows: int | None, questions: Sequence[Sequence[Wanted]],
    folder: Path,
) -> Written:  # fmt: skip
    """Writes what was seen together as a load does that holds `rows` rows at most before it writes,
    or, where that is None, as merging does, and reads it back.

    Raises OutsideError when writing fails, RequestError for a layout that rows do not fit.
    """
    begun = time.perf_counter()
    with outside(f"Writing a sample to {folder}"):
        if rows is None:
            paths = _write_merged(look, layout, folder)
        else:
            paths = _write(look, layout, max(rows, 1), folder)
    seconds = time.perf_counter() - begun
    began = time.perf_counter()
    footers = [_footer(path) for path in paths]
    opening = (time.perf_counter() - began) / max(len(paths), 1)
    counts, sizes, bare, each = [], [], [], []
    for footer in footers:
        groups = [footer.row_group(number) for number in range(footer.num_row_groups)]
        for group in groups:
            counts.append(group.num_rows)
            sizes.append(
                [group.column(at).total_compressed_size for at in range(group.num_columns)]
            )
        bare.append(footer.serialized_size)
        each.append(footer.num_row_groups)
    footer_bare = _bare_footer(look)
    footer_group = max(sum(bare) - footer_bare * len(bare), 0) / max(sum(each), 1)
    return Written(
        Sizes.of(np.array(counts, float), np.array(sizes, float)), seconds, int(sum(counts)),
        footer_bare, footer_group, opening,
        tuple(_seconds_a_row(paths, asked[0].columns) for asked in questions),
    )  # fmt: skip


def _write(look: Look, layout: FileLayout, rows: int, folder: Path) -> list[Path]:
    schema, paths = schema_of(look.columns), list[Path]()
    for piece in (piece for window in look.windows for piece in _pieces(window, rows)):
        writer = PartitionedWriter(_create, f"{folder}/{len(paths)}", schema, layout, "sample")
        for start in range(0, len(piece), AT_ONCE):
            writer.put(piece.slice(start, AT_ONCE))
        paths += [Path(file.path) for file in writer.close()]
    return paths


def _pieces(window: Any, rows: int) -> Iterator[Any]:
    """Rows as a load writes them at a time; where it holds more than were seen, all of these and
    fewer, which shows how sizes go on."""
    if len(window) < rows:
        yield from (window, window.slice(0, max(len(window) // FEWER, 1)))
        return
    for first in range(0, min(len(window), MOST_PIECES * rows), rows):
        yield window.slice(first, rows)


def _write_merged(look: Look, layout: FileLayout, folder: Path) -> list[Path]:
    """A window in order, as a whole and in two smaller shares to see how sizes go on."""
    from splarn.core.lake.partitions import groups

    together = max(look.windows, key=len)
    schema, paths = schema_of(look.columns), []
    for share in (1, FEWER, FEWER**2):
        rows = together.slice(0, max(len(together) // share, 1))
        if layout.sort:
            rows = rows.sort_by([(name, "ascending") for name in layout.sort])
        for number, group in enumerate(groups(rows, layout.partition)):
            mine = rows if group.rows is None else rows.take(pa.array(group.rows))
            path = str(folder / str(share) / f"{number}.parquet")
            file = RowsFile(_create, path, schema, layout, group.values)
            file.put(mine)
            file.close()
            paths.append(Path(path))
    return paths


def _footer(path: Path) -> Any:
    with pq.ParquetFile(path) as file:
        return file.metadata


def _bare_footer(look: Look) -> float:
    held = io.BytesIO()
    pq.ParquetWriter(held, schema_of(look.columns), store_schema=False).close()
    return float(pq.ParquetFile(io.BytesIO(held.getvalue())).metadata.serialized_size)


def _seconds_a_row(paths: Sequence[Path], columns: Sequence[str]) -> float:
    """What reading a row's columns takes here, once its file is open; the better of two tries."""
    tries = []
    for _ in range(2):
        seconds = rows = 0.0
        for path in paths:
            with pq.ParquetFile(path, pre_buffer=True) as file:
                begun = time.perf_counter()
                for batch in file.iter_batches(AT_ONCE, columns=list(columns)):
                    rows += batch.num_rows
                seconds += time.perf_counter() - begun
        tries.append(seconds / max(rows, 1))
    return min(tries)
