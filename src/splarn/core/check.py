"""The check: every record of the source held against the layout."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import IO

from splarn.core.codecs import codec_of, read_blocks
from splarn.core.errors import RequestError
from splarn.core.faults import Fault
from splarn.core.files import ASIDE, outside
from splarn.core.layout import Layout
from splarn.core.pool import Pool, report
from splarn.core.progress import Progress, Silent
from splarn.core.ranges import Range, cut_ranges
from splarn.core.records import record_chunks
from splarn.core.shape.manifest import header_line
from splarn.core.sources import check_sources
from splarn.core.typed import Parser
from splarn.core.unique import Keys, keys_of, locate, repeated

RANGE = 64 << 20


@dataclass(frozen=True)
class CheckTask:
    """One range of one file to check; picklable. `good` is the file that its good rows go to."""

    path: Path
    codec: str
    range: Range
    layout: Layout
    keep: int
    good: Path | None = None


@dataclass
class CheckResult:
    """Rows read, good and bad. `faults` stops growing at the limit, `kinds` counts them all.

    `stopped` says that the limit ended the check before the source did.
    """

    rows: int = 0
    bad: int = 0
    lines: int = 0
    stopped: bool = False
    faults: list[Fault] = field(default_factory=list)
    kinds: Counter[tuple[str, str]] = field(default_factory=Counter)
    keys: list[Keys] = field(default_factory=list)

    @property
    def good(self) -> int:
        """Rows that fit the layout."""
        return self.rows - self.bad

    def blame(self, faults: Sequence[Fault], keep: int) -> None:
        """Counts faults, and keeps them while there is room."""
        self.bad += len(faults)
        self.kinds.update((fault.kind, fault.field or "") for fault in faults)
        self.faults += faults[: max(keep - len(self.faults), 0)]


def run_check_task(task: CheckTask) -> CheckResult:
    """Checks one range. Fault rows and lines count from the range's start."""
    parser = Parser(task.layout, str(task.path))
    result = CheckResult()
    begin = task.range
    blocks = read_blocks(task.path, task.codec, begin.start, begin.end)
    chunks = record_chunks(
        _counted_lines(blocks, result), task.layout.dialect, where=str(task.path),
        offset=begin.start,
    )  # fmt: skip
    unique = any(field.unique for field in task.layout.fields)
    with _aside(task) as good:
        for chunk in chunks:
            parsed = parser.parse(chunk)
            result.rows += chunk.rows
            result.blame(parsed.faults, task.keep)
            if good is not None:
                good.writelines(parsed.raw(0, len(parsed.good)))
            if unique:
                result.keys += keys_of(parsed, task.layout)
            if task.codec == "none":
                report(len(chunk.data))
    if task.codec != "none":
        report(task.range.packed)
    return result


@contextmanager
def _aside(task: CheckTask) -> Iterator[IO[bytes] | None]:
    """The file for good rows, begun with a header and renamed when whole."""
    if task.good is None:
        yield None
        return
    aside = task.good.with_name(task.good.name + ASIDE)
    with outside(f"Writing {task.good}"):
        with aside.open("wb") as file:
            if task.layout.dialect.header:
                file.write(header_line(task.layout))
            yield file
        aside.replace(task.good)


def check(
    paths: Sequence[Path],
    layout: Layout,
    pool: Pool,
    keep: int = 1_000_000,
    *,
    limit: int | None = None,
    good: Path | None = None,
    progress: Progress | None = None,
) -> CheckResult:
    """Reads all files against the layout, ranges of them in parallel; keeps `keep` faults.

    With a `limit` it stops once so many rows are bad. Good rows go into files in the folder `good`,
    which must hold none yet. Uniqueness is judged over all files; repeats count as bad, but stay in
    the files of good rows.
    Raises RequestError as `check_sources` does, OutsideError when a file cannot be read.
    """
    watch = progress or Silent()
    check_sources(paths, layout)
    if good is not None:
        _claim(good)
    tasks: list[CheckTask] = []
    for path in paths:
        codec = codec_of(path)
        for piece in cut_ranges(path, codec, layout.dialect, RANGE, pool):
            to = None if good is None else good / f"good-{len(tasks) + 1:05d}.csv"
            tasks.append(CheckTask(path, codec, piece, layout, keep, to))
    watch.start("check", sum(task.range.packed for task in tasks), "bytes")
    total = CheckResult()
    current: Path | None = None
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
        if limit is not None and total.bad >= limit:
            total.stopped = task is not tasks[-1]
            break
    watch.finish()
    _blame_repeats(total, keys, paths, layout, keep)
    return total


def _blame_repeats(
    total: CheckResult,
    keys: Sequence[Sequence[Keys]],
    paths: Sequence[Path],
    layout: Layout,
    keep: int,
) -> None:
    by_file: dict[int, dict[int, str]] = defaultdict(dict)
    for number, row, name in repeated(keys):
        by_file[number].setdefault(row, name)
    for number, wanted in by_file.items():
        path = paths[number]
        total.blame(locate(path, codec_of(path), layout, wanted), keep)


def _claim(folder: Path) -> None:
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise RequestError(f"{folder} is in use: name a new or empty folder for the good rows.")
    with outside(f"Making the folder {folder}"):
        folder.mkdir(parents=True, exist_ok=True)


def _counted_lines(blocks: Iterable[bytes], result: CheckResult) -> Iterator[bytes]:
    """The blocks as they are, their lines counted on the way."""
    for block in blocks:
        result.lines += block.count(b"\n")
        yield block
