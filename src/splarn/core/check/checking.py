"""The check: every record of the source held against the layout."""

from __future__ import annotations

import secrets
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path

from splarn.core.check.unique import Keys, keys_of, locate, repeated
from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.reading import cut_files, read_parsed
from splarn.core.reading.faults import Fault
from splarn.core.reading.parsed import Parsed
from splarn.core.reading.sources import read_sources
from splarn.core.reading.text import header_line
from splarn.core.source.places import Place
from splarn.core.source.ranges import Range
from splarn.core.source.source import Source
from splarn.core.units import plural
from splarn.core.work.disk import ASIDE, is_bare, outside
from splarn.core.work.lanes import report
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress, Silent

RANGE = 64 << 20
# When so many rows are read and this share of them is bad, the layout is another file's.
ENOUGH, HOPELESS = 20_000, 0.9


@dataclass(frozen=True)
class CheckTask:
    """One range of one file to check; picklable. `good` is the file that its good rows go to."""

    path: Place
    codec: str
    range: Range
    layout: Layout
    keep: int
    good: Path | None = None
    limit: int | None = None


@dataclass
class CheckResult:
    """Rows read, good and bad. `faults` stops growing at the limit, `kinds` counts them all.

    `stopped` says why the check ended before the source did, empty where it did not.
    """

    rows: int = 0
    bad: int = 0
    lines: int = 0
    stopped: str = ""
    faults: list[Fault] = field(default_factory=list)
    kinds: Counter[tuple[str, str]] = field(default_factory=Counter)
    keys: list[Keys] = field(default_factory=list)

    @property
    def good(self) -> int:
        """Rows that fit the layout."""
        return self.rows - self.bad

    def count_lines(self, block: bytes) -> None:
        """Counts the line breaks of a block of text."""
        self.lines += block.count(b"\n")

    def blame(self, faults: Sequence[Fault], keep: int) -> None:
        """Counts faults, and keeps them while there is room."""
        self.bad += len(faults)
        self.kinds.update((fault.kind, fault.field or "") for fault in faults)
        self.faults += faults[: max(keep - len(self.faults), 0)]


def run_check_task(task: CheckTask) -> CheckResult:
    """Checks one range. Fault rows and lines count from the range's start."""
    result = CheckResult()
    unique = any(field.unique for field in task.layout.fields)
    start, end = task.range.start, task.range.end
    with _good_rows(task) as good:
        for parsed in read_parsed(
            task.path, task.codec, task.layout, start, end, result.count_lines
        ):
            result.rows += parsed.rows
            result.blame(parsed.faults, task.keep)
            if good is not None:
                good(parsed)
            if unique:
                result.keys += keys_of(parsed, task.layout)
            result.stopped = _enough(result, task.limit, task.keep)
            if result.stopped:
                return result
            if task.codec == "none":
                report(parsed.size)
    if task.layout.format == "parquet":
        result.lines = result.rows
    if task.codec != "none":
        report(task.range.packed)
    return result


def _enough(found: CheckResult, limit: int | None, keep: int) -> str:
    """Why nothing further need be read; empty where it need."""
    if limit is not None and found.bad >= limit:
        return f"{limit:,} bad rows were asked for at most"
    if found.bad >= keep:
        return f"{keep:,} bad rows are as many as are kept"
    if limit is None and found.rows >= ENOUGH and found.bad >= HOPELESS * found.rows:
        return (
            f"{found.bad:,} of the first {plural(found.rows, 'row')} read are bad, so the layout "
            "does not "
            "seem to be that of these files (--bad-row-limit N reads on until N are)"
        )
    return ""


@contextmanager
def _good_rows(task: CheckTask) -> Iterator[Callable[[Parsed], object] | None]:
    """What takes the good rows into their file, which is renamed when whole."""
    if task.good is None:
        yield None
        return
    temporary = task.good.with_name(f"{task.good.name}.{secrets.token_hex(3)}{ASIDE}")
    with outside(f"Writing {task.good}"):
        with temporary.open("wb") as file:
            if task.layout.format == "parquet":
                from pyarrow.parquet import ParquetWriter

                with ParquetWriter(file, task.layout.arrow_schema) as writer:
                    yield lambda parsed: writer.write_table(parsed.table)
            else:
                if task.layout.dialect.header:
                    file.write(header_line(task.layout.as_read))
                yield lambda parsed: file.writelines(parsed.raw(0, len(parsed.good)))
        temporary.replace(task.good)


def check(
    paths: Sequence[Place],
    layout: Layout,
    pool: Pool,
    keep: int = 1_000_000,
    *,
    limit: int | None = None,
    good: Path | None = None,
    progress: Progress | None = None,
) -> CheckResult:
    """Reads all files against the layout, ranges of them in parallel; keeps `keep` faults.

    With a `limit` it stops once so many rows are bad, without one where nearly all are. Good rows
    go into files in the folder `good`, which must hold none yet. Uniqueness is judged over all
    files; repeats count as bad, but stay in the files of good rows.
    Raises RequestError as `read_sources` does, OutsideError when a file cannot be read.
    """
    watch = progress or Silent()
    sources = read_sources(paths, layout, headers_do=True)
    if good is not None:
        _claim(good)
    tasks: list[CheckTask] = []
    for source, pieces in zip(sources, cut_files(sources, layout, RANGE, pool), strict=True):
        path, codec = source.place, source.codec
        for piece in pieces:
            to = None if good is None else good / f"good-{len(tasks) + 1:05d}.{layout.format}"
            tasks.append(CheckTask(path, codec, piece, layout, keep, to, limit))
    watch.start("check", sum(task.range.packed for task in tasks), "bytes")
    total = CheckResult()
    current: Place | None = None
    row = line = 0
    keys: list[list[Keys]] = []
    for task, part in zip(tasks, pool.map(run_check_task, tasks, watch), strict=False):
        if task.path != current:
            current, row, line = task.path, 0, 0
            keys.append([])
        moved = [
            replace(fault, row=fault.row + row, line=fault.line + line) for fault in part.faults
        ]
        total.faults += moved[: max(keep - len(total.faults), 0)]
        total.kinds.update(part.kinds)
        total.rows += part.rows
        total.bad += part.bad
        keys[-1] += [replace(key, rows=key.rows + row) for key in part.keys]
        row, line = row + part.rows, line + part.lines
        total.stopped = part.stopped or _enough(total, limit, keep)
        if total.stopped:
            if task is tasks[-1] and not part.stopped:
                total.stopped = ""
            break
    watch.finish()
    _blame_repeats(total, keys, sources, layout, keep)
    for source in sources:
        source.check_unchanged()
    return total


def _blame_repeats(
    total: CheckResult,
    keys: Sequence[Sequence[Keys]],
    sources: Sequence[Source],
    layout: Layout,
    keep: int,
) -> None:
    by_file: dict[int, dict[int, str]] = defaultdict(dict)
    for number, row, name in repeated(keys):
        by_file[number].setdefault(row, name)
    for number, wanted in by_file.items():
        source = sources[number]
        total.blame(locate(source.place, source.codec, layout, wanted), keep)


def _claim(folder: Path) -> None:
    if folder.exists() and (not folder.is_dir() or not is_bare(folder)):
        raise RequestError(f"{folder} is in use: name a new or empty folder for the good rows.")
    with outside(f"Making the folder {folder}"):
        folder.mkdir(parents=True, exist_ok=True)
