"""Timing two commands in turn, and the table of ratios."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Row:
    """One ratio. `ratio` is the baseline's time over ours, so above 1 Splarn is faster."""

    work: str
    against: str
    ratio: float | None
    low: float
    high: float
    reach: float | None
    detail: str


@dataclass(frozen=True)
class Timed:
    """Wall seconds and the peak memory, in bytes, of a whole process and its children."""

    seconds: float
    peak: int


def splarn(*words: object) -> list[str]:
    """A Splarn command line."""
    return [sys.executable, "-m", "splarn", *map(str, words)]


def run(command: Sequence[str] | str, cwd: Path) -> Timed:
    """Runs a command (a string by the shell) to its end.

    Raises CalledProcessError unless it ends with 0 or, for a check that finds faults, 1.
    """
    begun = time.perf_counter()
    process = subprocess.Popen(
        command,
        cwd=cwd,
        shell=isinstance(command, str),
        # As installed: modules come compiled.
        env={k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )
    assert process.stderr is not None
    error = process.stderr.read()
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - begun
    code = os.waitstatus_to_exitcode(status)
    if code not in (0, 1):
        raise subprocess.CalledProcessError(code, command, stderr=error)
    return Timed(seconds, usage.ru_maxrss * 1024)


def compare(
    work: str,
    against: str,
    ours: Callable[[], Timed],
    theirs: Callable[[], Timed],
    repeats: int,
    reach: float | None,
    size: float,
) -> Row:
    """Both sides in turn, after one warm-up of each; the ratio pair by pair."""
    ours()
    theirs()
    pairs = [(ours(), theirs()) for _ in range(repeats)]
    ratios = [b.seconds / a.seconds for a, b in pairs]
    a = statistics.median(pair[0].seconds for pair in pairs)
    b = statistics.median(pair[1].seconds for pair in pairs)
    peak = max(pair[0].peak for pair in pairs)
    detail = (
        f"{a:.2f} s against {b:.2f} s, {size / a / 1e6:,.0f} against {size / b / 1e6:,.0f} MB/s, "
        f"peak {peak >> 20} MiB"
    )
    return Row(work, against, statistics.median(ratios), min(ratios), max(ratios), reach, detail)


def missing(work: str, against: str, tool: str) -> Row:
    """A row for a baseline that is not installed."""
    return Row(work, against, None, 0, 0, None, f"not measured: {tool} is not installed")


def have(tool: str) -> bool:
    """Whether a program is on the path."""
    return shutil.which(tool) is not None


def show(rows: Sequence[Row]) -> None:
    """Prints the rows as a Markdown table."""
    print("| work | held against | ratio | range | reach | detail |")
    print("|---|---|---|---|---|---|")
    for row in rows:
        ratio = "–" if row.ratio is None else f"{row.ratio:.2f}×"
        spread = "" if row.ratio is None else f"{row.low:.2f}–{row.high:.2f}"
        reach = "" if row.reach is None else f"{row.reach:g}×"
        print(f"| {row.work} | {row.against} | {ratio} | {spread} | {reach} | {row.detail} |")
