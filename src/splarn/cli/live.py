"""The live view: a line for the stage, and one for each stream at work."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from splarn.cli.plain import in_one_line, visible
from splarn.core.units import plural
from splarn.core.work.progress import Lane

if TYPE_CHECKING:
    from rich.console import Console

# Speeds are of the last few seconds.
WINDOW = 4.0


class LiveView:
    """Shown on the terminal while a stage lasts, then gone."""

    def __init__(self, console: Console) -> None:
        self.console = console
        self.live: Any = None
        self.label = self.unit = self.told = self.standing = ""
        self.total: float | None = None
        self.done = self.begun = 0.0
        self.streams: list[Lane] = []
        self.seen: list[deque[tuple[float, float]]] = []

    def start(self, label: str, total: float | None, unit: str) -> None:
        from rich.live import Live

        self.finish()
        self.unit, self.streams, self.seen = unit, [], []
        self.label, self.total, self.done, self.told = label, total, 0.0, ""
        self.standing = ""
        self.begun = time.monotonic()
        self.live = Live(
            get_renderable=self._view, console=self.console, refresh_per_second=5, transient=True
        )
        self.live.start()

    def advance(self, amount: float) -> None:
        self.done += amount

    def lanes(self, lanes: Sequence[Lane]) -> None:

        now = time.monotonic()
        self.streams = list(lanes)
        while len(self.seen) < len(lanes):
            self.seen.append(deque())
        for lane, seen in zip(lanes, self.seen, strict=False):
            seen.append((now, lane.amount))
            while len(seen) > 2 and seen[0][0] < now - WINDOW:
                seen.popleft()
        rows = sum(lane.rows for lane in lanes)
        speed = sum(_speed(seen) for seen in self.seen) / 1e6
        self.told = (f"{plural(round(rows), 'row')}, " if rows else "") + f"{speed:,.1f} MB/s"

    def tell(self, text: str) -> None:
        if self.live is not None:
            self.live.console.print(f"  {visible(text)}", markup=False)

    def status(self, text: str) -> None:
        self.standing = text

    def finish(self) -> None:
        if self.live is not None:
            self.live.stop()
            self.live = None

    def _line(self) -> str:
        """How far the stage is: `load  68 %  332 of 485 MiB  3.1 MB/s  5 s left`."""
        from splarn.core.units import show_duration

        spent = time.monotonic() - self.begun
        pieces = [self.label]
        if self.total:
            share = min(self.done / self.total, 1.0)
            pieces.append(f"{share:.0%}".replace("%", " %"))
            pieces.append(_of(self.done, self.total, self.unit))
        elif self.unit == "bytes" or self.done:
            pieces.append(_of(self.done, None, self.unit))
        if self.told:
            pieces.append(self.told)
        if self.total and 0 < self.done < self.total and spent > 1:
            pieces.append(f"{show_duration(spent * (self.total / self.done - 1))} left")
        elif not self.total:
            pieces.append(show_duration(spent))
        return "  ".join(piece for piece in pieces if piece)

    def _view(self) -> Any:
        from rich.console import Group
        from rich.table import Table
        from rich.text import Text

        line = Text(self._line(), no_wrap=True, overflow="ellipsis")
        if self.standing:
            return Group(line, Text(self.standing))
        if not self.streams:
            return line
        table = Table(box=None, pad_edge=False, show_header=False, padding=(0, 2, 0, 0))
        for justify in ("left", "right", "right", "left"):
            table.add_column(justify=justify, no_wrap=True, overflow="ellipsis")
        for number, (lane, seen) in enumerate(zip(self.streams, self.seen, strict=False), 1):
            table.add_row(
                f"[dim]stream {number}[/dim]",
                # Files that are copied have no rows.
                f"{plural(round(lane.rows), 'row')}"
                if any(one.rows for one in self.streams)
                else "",
                f"{_speed(seen) / 1e6:,.1f} MB/s" if lane.label else "",
                in_one_line(lane.label).replace("[", r"\[") or "[dim]waiting[/dim]",
            )
        return Group(table, line)


def _speed(seen: deque[tuple[float, float]]) -> float:
    """Bytes a second over the window."""
    if len(seen) < 2:
        return 0.0
    (first, was), (last, now) = seen[0], seen[-1]
    return (now - was) / max(last - first, 1e-6)


def _of(done: float, total: float | None, unit: str) -> str:
    """So much of so much, in one unit."""
    from splarn.core.units import show_count, show_size

    if total is None:
        return show_size(done) if unit == "bytes" else f"{show_count(done)} {unit}".rstrip()
    if unit != "bytes":
        return f"{show_count(done)} of {show_count(total)} {unit}".rstrip()
    whole, name = show_size(total).split(" ")
    scale = 1024 ** ("B", "KiB", "MiB", "GiB", "TiB").index(name)
    places = len(whole.partition(".")[2])
    return f"{done / scale:,.{places}f} of {whole} {name}"
