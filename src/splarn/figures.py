"""A report's figures as functions of Matplotlib axes, for notebooks and pages of one's own.

Each takes axes, what `splarn.decision` gives, and colours: LIGHT or DARK.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from splarn.report.facts import Decided
from splarn.report.figures import FIGURES, refuse_empty
from splarn.report.palette import DARK, LIGHT, Palette

__all__ = [
    "DARK",
    "LIGHT",
    "ceilings",
    "codecs",
    "drift",
    "frontier",
    "history",
    "parts",
    "phases",
    "streams",
    "tiers",
]

Draw = Callable[..., None]


def _figure(name: str, words: str) -> Draw:
    figure = FIGURES[name]

    def draw(axes: Any, decision: Decided, colours: Palette = LIGHT) -> None:
        refuse_empty(figure, decision)
        figure.draw(axes, decision, colours)

    draw.__name__ = draw.__qualname__ = name
    draw.__doc__ = (
        f"{words}\n\n    Raises RequestError where the decision holds nothing to draw of it.\n    "
    )
    return draw


frontier = _figure("frontier", "Time against cost: all configurations, frontier, limits, choice.")
phases = _figure("phases", "What the time of the leading configurations goes into, in seconds.")
streams = _figure("streams", "Speed-up and efficiency against load streams: law, band and trials.")
tiers = _figure("tiers", "Speed-up and efficiency against tiers: law, band and trials.")
parts = _figure("parts", "Time against the part size: law, band and trials.")
codecs = _figure("codecs", "Speed of packings against how small they make this data.")
history = _figure("history", "Forecast beside actual over the runs of the plan's table.")
drift = _figure("drift", "The same configuration again and again over the sweep.")
ceilings = _figure("ceilings", "How near each phase came to what the machine can do.")
