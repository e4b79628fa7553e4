"""The live view: a bar for the stage, and a line for each stream at work."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from splarn.cli.plain import in_one_line, visible
from splarn.core.progress import Lane

if TYPE_CHECKING:
    from rich.console import Console

# Speeds are of the last few seconds.
WINDOW = 4.0


class LiveView:
    """Shown on the terminal while a stage lasts, then gone."""

    def __init__(self, console: Console) -> None:
        self.console = console
        self.live: Any = None
        self.bar: Any = None
        self.task: Any = None
        self.unit = ""
        self.streams: list[Lane] = []
        self.seen: list[deque[tuple[float, float]]] = []

    def start(self, label: str, total: float | None, unit: str) -> None:
        from rich.live import Live
        from rich.progress import (
            BarColumn,
            DownloadColumn,
            MofNCompleteColumn,
            Progress,
            ProgressColumn,
            TextColumn,
            TimeElapsedColumn,
            TimeRemainingColumn,
        )

        self.finish()
        self.unit, self.streams, self.seen = unit, [], []
        amounts: list[ProgressColumn] = []
        if unit == "bytes":
            amounts = [DownloadColumn(binary_units=True), TextColumn("{task.fields[rows]}")]
        elif unit:
            amounts = [MofNCompleteColumn(), TextColumn(unit)]
        left = [TimeRemainingColumn(), TextColumn("left")] if total else []
        self.bar = Progress(
            TextColumn("{task.description}"),
            BarColumn(32, style="dim", complete_style="cyan", finished_style="green"),
            *amounts,
            TimeElapsedColumn(),
            *left,
            console=self.console,
        )
        self.task = self.bar.add_task(label, total=total, rows="")
        self.live = Live(
            get_renderable=self._view, console=self.console, refresh_per_second=5, transient=True
        )
        self.live.start()

    def advance(self, amount: float) -> None:
        if self.bar is not None:
            self.bar.advance(self.task, amount)

    def lanes(self, lanes: Sequence[Lane]) -> None:
        from splarn.core.units import show_count

        now = time.monotonic()
        self.streams = list(lanes)
        while len(self.seen) < len(lanes):
            self.seen.append(deque())
        for lane, seen in zip(lanes, self.seen, strict=False):
            seen.append((now, lane.amount))
            while len(seen) > 2 and seen[0][0] < now - WINDOW:
                seen.popleft()
        if self.bar is not None:
            rows = sum(lane.rows for lane in lanes)
            speed = sum(_speed(seen) for seen in self.seen) / 1e6
            counted = f"{show_count(rows)} rows, " if rows else ""
            self.bar.update(self.task, rows=f"{counted}{speed:,.1f} MB/s")

    def tell(self, text: str) -> None:
        if self.live is not None:
            self.live.console.print(f"  {visible(text)}", markup=False)

    def finish(self) -> None:
        if self.live is not None:
            self.live.stop()
            self.live = self.bar = None

    def _view(self) -> Any:
        from rich.console import Group
        from rich.table import Table

        from splarn.core.units import show_count

        if self.bar is None or not self.streams:
            return self.bar or ""
        table = Table(box=None, pad_edge=False, show_header=False, padding=(0, 2, 0, 0))
        for justify in ("left", "right", "right", "left"):
            table.add_column(justify=justify, no_wrap=True, overflow="ellipsis")
        for number, (lane, seen) in enumerate(zip(self.streams, self.seen, strict=False), 1):
            table.add_row(
                f"[dim]stream {number}[/dim]",
                # Files that are copied have no rows.
                f"{show_count(lane.rows)} rows" if any(one.rows for one in self.streams) else "",
                f"{_speed(seen) / 1e6:,.1f} MB/s" if lane.label else "",
                in_one_line(lane.label).replace("[", r"\[") or "[dim]waiting[/dim]",
            )
        return Group(table, self.bar)


def _speed(seen: deque[tuple[float, float]]) -> float:
    """Bytes a second over the window."""
    if len(seen) < 2:
        return 0.0
    (first, was), (last, now) = seen[0], seen[-1]
    return (now - was) / max(last - first, 1e-6)
