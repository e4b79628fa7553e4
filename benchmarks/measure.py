"""Timing two commands in turn, in seconds and in core-seconds, and the table of ratios."""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import threading
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
    """Wall seconds, core-seconds and the peak memory, in bytes, of a command.

    `client` are the core-seconds of the process and its children, `server` those that a server
    spent meanwhile; `peak` is of the largest process, `together` of all at one moment. `said` is
    what it printed.
    """

    seconds: float
    peak: int
    client: float = 0.0
    server: float = 0.0
    together: int = 0
    said: str = ""

    @property
    def cores(self) -> float:
        """Core-seconds of both sides."""
        return self.client + self.server


def splarn(*words: object) -> list[str]:
    """A Splarn command line."""
    return [sys.executable, "-m", "splarn", *map(str, words)]


_TICKS = os.sysconf("SC_CLK_TCK")


def _server_seconds(names: Sequence[str]) -> float:
    """Core-seconds of all processes of these names, and of children that have ended."""
    total = 0
    for entry in Path("/proc").iterdir():
        if not entry.name.isdigit():
            continue
        try:
            name, _, rest = (entry / "stat").read_text().partition("(")[2].rpartition(")")
        except OSError:
            continue
        if name in names:
            fields = rest.split()
            # Own time in user and system mode, and that of children that were waited for.
            total += sum(map(int, fields[11:15]))
    return total / _TICKS


def _memory(root: int) -> int:
    """The memory of a process and all below it, shared pages counted once."""
    parents: dict[int, list[int]] = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                rest = (entry / "stat").read_text().rpartition(")")[2].split()
            except OSError:
                continue
            parents.setdefault(int(rest[1]), []).append(int(entry.name))
    total, left = 0, [root]
    while left:
        pid = left.pop()
        left += parents.get(pid, [])
        try:
            told = (Path("/proc") / str(pid) / "smaps_rollup").read_text()
        except OSError:
            continue
        total += sum(
            int(line.split()[1]) * 1024 for line in told.splitlines() if line.startswith("Pss:")
        )
    return total


def run(
    command: Sequence[str] | str, cwd: Path, servers: Sequence[str] = (), watch: bool = False
) -> Timed:
    """Runs a command (a string by the shell) to its end.

    `servers` are the names of server processes whose work counts; with `watch` the memory of all
    its processes together is sampled, which costs a little time.
    Raises CalledProcessError unless it ends with 0 or, for a check that finds faults, 1.
    """
    before = _server_seconds(servers) if servers else 0.0
    begun = time.perf_counter()
    process = subprocess.Popen(
        command,
        cwd=cwd,
        shell=isinstance(command, str),
        # As installed: modules come compiled.
        env={k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"},
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    together = 0
    over = threading.Event()

    def sample() -> None:
        nonlocal together
        while not over.wait(0.1):
            together = max(together, _memory(process.pid))

    watcher = threading.Thread(target=sample, daemon=True)
    if watch:
        watcher.start()
    assert process.stdout is not None
    said = process.stdout.read()
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - begun
    over.set()
    code = os.waitstatus_to_exitcode(status)
    if code not in (0, 1):
        raise subprocess.CalledProcessError(code, command, stderr=said)
    client = usage.ru_utime + usage.ru_stime
    server = _server_seconds(servers) - before if servers else 0.0
    return Timed(seconds, usage.ru_maxrss * 1024, client, server, together, said)


def compare(
    work: str,
    against: str,
    ours: Callable[[], Timed],
    theirs: Callable[[], Timed],
    repeats: int,
    reach: float | None,
    size: float,
    core_reach: float | None = None,
) -> list[Row]:
    """Both sides in turn, after one warm-up of each; the ratio pair by pair.

    With `core_reach` a second row has the core-seconds of both sides.
    """
    ours()
    theirs()
    pairs = [(ours(), theirs()) for _ in range(repeats)]
    ratios = [b.seconds / a.seconds for a, b in pairs]
    a = statistics.median(pair[0].seconds for pair in pairs)
    b = statistics.median(pair[1].seconds for pair in pairs)
    peak = max(pair[0].peak for pair in pairs)
    detail = (
        f"{a:.2f} s against {b:.2f} s, {size / a / 1e6:,.0f} against {size / b / 1e6:,.0f} MB/s, "
        f"core-seconds {_cores([pair[0] for pair in pairs])} against "
        f"{_cores([pair[1] for pair in pairs])}, largest process {peak >> 20} MiB"
    )
    stages = _stages([pair[0] for pair in pairs])
    found = [_row(work, against, ratios, reach, detail + stages)]
    if core_reach is not None:
        cores = [theirs.cores / ours.cores for ours, theirs in pairs]
        found.append(_row(f"{work}: core-seconds", against, cores, core_reach, "of both sides"))
    return found


def _row(work: str, against: str, ratios: Sequence[float], reach: float | None, detail: str) -> Row:
    return Row(work, against, statistics.median(ratios), min(ratios), max(ratios), reach, detail)


def _stages(timed: Sequence[Timed]) -> str:
    """What each stage took, where the command said so: core-seconds of the client's streams, and of
    the server where there is one; seconds of verification. Medians.
    """
    told: list[dict[str, float]] = []
    for one in timed:
        try:
            document = json.loads(one.said.strip().splitlines()[-1])
            server = {"server": one.server} if one.server else {}
            told.append({**document["stages"], **server, "verify": document["phases"]["finish"]})
        except (IndexError, KeyError, TypeError, ValueError):
            return ""
    names = [name for name in told[0] if all(name in one for one in told)]
    medians = ((name, statistics.median(one[name] for one in told)) for name in names)
    return "; " + ", ".join(f"{name} {seconds:.2f}" for name, seconds in medians)


def _cores(timed: Sequence[Timed]) -> str:
    """Medians of both sides' core-seconds, the server's apart where there is one."""
    client = statistics.median(one.client for one in timed)
    server = statistics.median(one.server for one in timed)
    if not server:
        return f"{client:.1f}"
    return f"{client + server:.1f} ({client:.1f} + {server:.1f} in the server)"


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
