"""The check: every record of the source held against the layout."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from splarn.core.codecs import codec_of, read_blocks
from splarn.core.faults import Fault
from splarn.core.layout import Layout
from splarn.core.pool import Pool, report
from splarn.core.progress import Progress, Silent
from splarn.core.ranges import Range, cut_ranges
from splarn.core.records import record_chunks
from splarn.core.sources import check_sources
from splarn.core.typed import Parser

RANGE = 64 << 20


@dataclass(frozen=True)
class CheckTask:
    """One range of one file to check; picklable."""

    path: Path
    codec: str
    range: Range
    layout: Layout
    keep: int


@dataclass
class CheckResult:
    """Rows read, good and bad. `faults` stops growing at the limit, `kinds` counts them all."""

    rows: int = 0
    bad: int = 0
    lines: int = 0
    faults: list[Fault] = field(default_factory=list)
    kinds: Counter[tuple[str, str]] = field(default_factory=Counter)

    @property
    def good(self) -> int:
        """Rows that fit the layout."""
        return self.rows - self.bad


def run_check_task(task: CheckTask) -> CheckResult:
    """Checks one range. Fault rows and lines count from the range's start."""
    parser = Parser(task.layout, str(task.path))
    result = CheckResult()
    begin = task.range
    blocks = read_blocks(task.path, task.codec, begin.start, begin.end)
    chunks = record_chunks(
        counted_lines(blocks, result), task.layout.dialect, where=str(task.path), offset=begin.start
    )
    for chunk in chunks:
        parsed = parser.parse(chunk)
        result.rows += chunk.rows
        if task.codec == "none":
            report(len(chunk.data))
        result.bad += len(parsed.faults)
        result.kinds.update((fault.kind, fault.field or "") for fault in parsed.faults)
        room = task.keep - len(result.faults)
        result.faults += parsed.faults[: max(room, 0)]
    if task.codec != "none":
        report(task.range.packed)
    return result


def check(
    paths: Sequence[Path],
    layout: Layout,
    pool: Pool,
    keep: int = 1_000_000,
    progress: Progress | None = None,
) -> CheckResult:
    """Reads all files against the layout, ranges of them in parallel; keeps `keep` faults.

    Raises RequestError as `check_sources` does, OutsideError when a file cannot be read.
    """
    watch = progress or Silent()
    tasks: list[CheckTask] = []
    check_sources(paths, layout)
    for path in paths:
        codec = codec_of(path)
        for piece in cut_ranges(path, codec, layout.dialect, RANGE, pool):
            tasks.append(CheckTask(path, codec, piece, layout, keep))
    watch.start("check", sum(task.range.packed for task in tasks), "bytes")
    total = CheckResult()
    current: Path | None = None
    row = line = 0
    for task, part in zip(tasks, pool.map(run_check_task, tasks, watch), strict=True):
        if task.path != current:
            current, row, line = task.path, 0, 0
        room = max(keep - len(total.faults), 0)
        total.faults += [
            replace(fault, row=fault.row + row, line=fault.line + line)
            for fault in part.faults[:room]
        ]
        total.rows += part.rows
        total.bad += part.bad
        total.kinds.update(part.kinds)
        row, line = row + part.rows, line + part.lines
    watch.finish()
    return total


def counted_lines(blocks: Iterable[bytes], result: CheckResult) -> Iterator[bytes]:
    """The blocks as they are, their lines counted on the way."""
    for block in blocks:
        result.lines += block.count(b"\n")
        yield block
