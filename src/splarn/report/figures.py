"""The figures of a report: `FIGURES` has them by name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.tuning.configuration import LEVERS
from splarn.core.units import show_duration
from splarn.report.drawing import (
    against_part_size,
    against_streams,
    against_tier,
    ceilings,
    codecs,
    curve_of,
    drift,
    forecast_and_actual,
    time_against_cost,
    time_by_phase,
)
from splarn.report.facts import Decided
from splarn.report.palette import Palette


@dataclass(frozen=True)
class Figure:
    """One figure: its title, what is to be seen in it in a sentence, and how it is drawn.

    `draw` takes axes, what is told and the colours; `size` is in inches. `needs` says whether there
    is anything to draw.
    """

    name: str
    title: str
    draw: Callable[[Any, Any, Palette], None]
    needs: Callable[[Any], bool]
    words: Callable[[Any], str]
    size: tuple[float, float] = (6.4, 4.0)


def _has(lever: str) -> Callable[[Decided], bool]:
    return lambda told: any(one.lever == lever and len(one.values) > 1 for one in told.curves)


def _of_streams(told: Decided, lever: str) -> str:
    found = curve_of(told, lever)
    first, last = found.seconds[0].median, found.seconds[-1].median
    name = LEVERS[lever].words
    return (
        f"From {name} {found.values[0]} to {found.values[-1]} it becomes {first / last:.1f} times "
        f"as fast, {show_duration(first)} to {show_duration(last)}."
    )


def _words_of_frontier(told: Decided) -> str:
    edge = sum(one.on_frontier for one in told.forecasts)
    lie = "one lies" if edge == 1 else f"{edge} lie"
    return f"Of {told.count:,} configurations, {lie} on the frontier, where less time costs more."


def _words_of_phases(told: Decided) -> str:
    phase = told.chosen.binding_phase
    took = show_duration(told.chosen.phases[phase])
    return f"The {phase} phase takes most of the choice's time: {took}."


def _words_of_history(told: Decided) -> str:
    inside = sum(one.low <= one.actual <= one.high for one in told.runs)
    return f"{inside} of {len(told.runs)} runs took a time within their forecast's 90 % interval."


def _comes_back(told: Decided) -> bool:
    return sum(one.role == "reference" and not one.failure for one in told.trials) > 1


def _always(told: Decided) -> bool:
    return True


FIGURES: dict[str, Figure] = {
    one.name: one
    for one in (
        Figure("frontier", "Time against cost", time_against_cost, _always, _words_of_frontier),
        Figure("phases", "What the time goes into", time_by_phase, _always, _words_of_phases,
               (7.4, 4.6)),
        Figure("streams", "More load streams", against_streams, _has("load_streams"),
               lambda told: _of_streams(told, "load_streams")),
        Figure("tiers", "A larger compute", against_tier, _has("tier"),
               lambda told: _of_streams(told, "tier")),
        Figure("parts", "Larger parts", against_part_size, _has("part_size"),
               lambda told: "The choice's time as its part size changes alone."),
        Figure("codecs", "Speed and size of packings", codecs, lambda told: bool(told.codecs),
               lambda told: "Measured on a sample of this data with one core of this machine."),
        Figure("history", "Forecast beside actual", forecast_and_actual,
               lambda told: bool(told.runs), _words_of_history),
        Figure("drift", "Whether the machine stayed as it was", drift, _comes_back,
               lambda told: "The same configuration again and again over the sweep."),
        Figure("ceilings", "How near to what can be", ceilings, lambda told: bool(told.nearness),
               lambda told: "The fastest trial against what `doctor --probe` measured."),
    )
}  # fmt: skip


def drawn(figure: Figure, told: Any, colours: Palette) -> Any:
    """A Matplotlib figure of its own. Raises RequestError where there is nothing to draw."""
    import matplotlib as mpl
    from matplotlib.figure import Figure as Canvas

    from splarn.report.palette import style

    refuse_empty(figure, told)
    with mpl.rc_context(style(colours, figure.name)):
        canvas = Canvas(figsize=figure.size, layout="constrained")
        axes = canvas.subplots()
        figure.draw(axes, told, colours)
        return canvas


def refuse_empty(figure: Figure, told: Any) -> None:
    """Raises RequestError where there is nothing to draw a figure of."""
    if not figure.needs(told):
        raise RequestError(
            f"There is nothing yet to draw {figure.name} of: {_missing(figure.name)}."
        )


def _missing(name: str) -> str:
    return {
        "history": "no plan has been run",
        "drift": "the sweep had its reference once",
        "ceilings": "run `splarn doctor --probe`, then sweep",
        "codecs": "the sweep measured no packing",
    }.get(name, "the space has one value of that lever")


def saved(canvas: Any, colours: Palette, form: str, name: str = "") -> bytes:
    """A figure as the bytes of a PNG or SVG file, the same each time."""
    import io

    import matplotlib as mpl

    from splarn.report.palette import style

    to = io.BytesIO()
    with mpl.rc_context(style(colours, name or "figure")):
        metadata = {"Date": None, "Creator": "Splarn"} if form == "svg" else {"Software": "Splarn"}
        canvas.savefig(to, format=form, dpi=160, metadata=metadata)
    return to.getvalue()
