"""Small charts in the terminal: a number a line, and a bar beside it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from splarn.cli.tables import Column
from splarn.core.units import show_duration

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.tuning.configuration import Configuration
    from splarn.core.tuning.forecast import Forecast

# Columns of the longest bar, and what an eighth of a column looks like.
LONGEST = 24
EIGHTHS = " ▏▎▍▌▋▊▉"


def bar(value: float, longest: float, columns: int = LONGEST) -> str:
    """A bar as long as a value among others; anything but nothing can be seen."""
    if value <= 0 or longest <= 0:
        return ""
    eighths = max(round(8 * columns * min(value / longest, 1.0)), 1)
    return "█" * (eighths // 8) + EIGHTHS[eighths % 8].strip()


def show_phases(out: Output, told: Forecast, which: str) -> None:
    """What the time of a forecast goes into, a bar a phase."""
    drawn = bars(list(told.phases.values()))
    out.say(f"The {which} spends its time so:")
    out.table(
        ["phase", ">time", Column("", 1)],
        [
            (phase, show_duration(seconds), one)
            for (phase, seconds), one in zip(told.phases.items(), drawn, strict=True)
        ],
    )


def show_streams(
    out: Output,
    told: Forecast,
    streams: Sequence[int],
    foretell: Callable[[Sequence[Configuration]], Sequence[Forecast]],
) -> None:
    """A forecast's time as its load streams change alone, where there are several."""
    from dataclasses import replace

    if len(streams) < 2:
        return
    others = foretell([replace(told.configuration, load_streams=one) for one in sorted(streams)])
    times = [one.seconds.median for one in others]
    out.say("With other load streams and all else the same:")
    out.table(
        [">load streams", ">time", Column("", 1), Column("", 2)],
        [
            (
                str(one.configuration.load_streams),
                show_duration(seconds),
                drawn,
                "beyond the trials" if one.extrapolated else "",
            )
            for one, seconds, drawn in zip(others, times, bars(times), strict=True)
        ],
    )


def bars(values: Sequence[float], columns: int = LONGEST) -> list[str]:
    """A bar for each of some values."""
    longest = max(values, default=0.0)
    return [bar(value, longest, columns) for value in values]
