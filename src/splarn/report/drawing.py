"""How figures are drawn, each a function of Matplotlib's axes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from splarn.core.tuning.configuration import LEVERS
from splarn.core.tuning.curves import Curve
from splarn.core.units import show_duration, show_money, tier_units
from splarn.report.facts import Decided
from splarn.report.palette import HATCHES, MARKERS, Palette

# More points than this are drawn as a cloud rather than one by one.
CLOUD = 4000
# A deadline so many times as far as the slowest is told at the edge; times that differ by such a
# factor are drawn by their logs.
FAR, WIDE = 1.6, 8.0


def time_against_cost(axes: Any, told: Decided, colours: Palette) -> None:
    """Every configuration, the frontier, the limits, and the choice with its interval."""
    every = told.forecasts
    edge = sorted((one for one in every if one.on_frontier), key=lambda one: one.seconds.median)
    axes.scatter(
        [one.seconds.median for one in every], [one.cost.median for one in every], s=14,
        color=colours.quiet, alpha=0.35 if len(every) > 60 else 0.6, linewidths=0,
        label=f"{told.count:,} configurations", rasterized=len(every) > CLOUD,
    )  # fmt: skip
    axes.step(
        [one.seconds.median for one in edge], [one.cost.median for one in edge], where="post",
        color=colours.water, linewidth=1.6, marker="o", markersize=4, label="frontier",
    )  # fmt: skip
    best = told.chosen
    x, y = best.seconds, best.cost
    axes.errorbar(
        [x.median], [y.median], xerr=[[x.median - x.low], [x.high - x.median]],
        yerr=[[y.median - y.low], [y.high - y.median]], fmt="D", markersize=8,
        color=colours.amber, ecolor=colours.amber, elinewidth=1.6, capsize=3, label="the choice",
    )  # fmt: skip
    slowest = max(one.seconds.median for one in every)
    deadline = told.limits.deadline
    if deadline is not None and deadline > FAR * max(slowest, x.high):
        # Drawn in its place it would leave no room for all that there is to choose from.
        axes.annotate(f"deadline {show_duration(deadline)} ▸", (1.0, 0.5),
                      xycoords="axes fraction", ha="right", color=colours.brick,
                      fontsize=9)  # fmt: skip
    elif deadline is not None:
        axes.axvline(deadline, color=colours.brick, linestyle="--", linewidth=1.3)
        axes.annotate(f"deadline {show_duration(deadline)}", (deadline, 0.5),
                      xycoords=("data", "axes fraction"), xytext=(-4, 0),
                      textcoords="offset points", ha="right", va="center", rotation=90,
                      color=colours.brick, fontsize=9)  # fmt: skip
    if told.limits.budget is not None:
        axes.axhline(told.limits.budget, color=colours.brick, linestyle=":", linewidth=1.3)
        axes.annotate(
            f"budget {show_money(told.limits.budget)}", (1.0, told.limits.budget),
            xycoords=("axes fraction", "data"), xytext=(-4, 3), textcoords="offset points",
            ha="right", va="bottom", color=colours.brick, fontsize=9,
        )  # fmt: skip
    if slowest > WIDE * min(one.seconds.median for one in every):
        axes.set_xscale("log")
    _durations(axes.xaxis)
    axes.set_xlabel("time, median")
    axes.set_ylabel(f"cost, {told.currency}")
    _above(axes, 3)


def time_by_phase(axes: Any, told: Decided, colours: Palette) -> None:
    """What the leading configurations spend their time on, one phase after the other."""
    leading = told.leading[::-1]
    phases = list(told.chosen.phases)
    left = [0.0] * len(leading)
    for number, phase in enumerate(phases):
        width = [one.phases.get(phase, 0.0) for one in leading]
        axes.barh(
            range(len(leading)), width, left=left, height=0.62, color=colours.series(number),
            hatch=HATCHES[number % len(HATCHES)], edgecolor=colours.paper, linewidth=0.8,
            label=phase,
        )  # fmt: skip
        left = [a + b for a, b in zip(left, width, strict=True)]
    for row, one in enumerate(leading):
        span = one.seconds
        axes.plot(
            [span.low, span.high],
            [row, row],
            color=colours.ink,
            linewidth=1.4,
            solid_capstyle="butt",
        )
        axes.plot([span.median], [row], marker="|", color=colours.ink, markersize=9)
    axes.set_yticks(
        range(len(leading)),
        [("→ " if one is told.chosen else "") + _wrapped(told.label(one.configuration))
         for one in leading],
    )  # fmt: skip
    axes.tick_params(axis="y", labelsize=8, length=0, labelcolor=colours.ink)
    axes.grid(visible=False, axis="y")
    _durations(axes.xaxis)
    axes.set_xlabel("stages in turn (bars) and all at the same time (line: 90 % interval)")
    _above(axes, len(phases))


def _speed(axes: Any, found: Curve, colours: Palette, of: Callable[[Any], float]) -> None:
    """Speed-up over the first value, with its band, its points, and what all of it would be."""
    xs = [of(value) for value in found.values]
    base = found.seconds[0].median
    axes.fill_between(
        xs, [base / one.high for one in found.seconds], [base / one.low for one in found.seconds],
        color=colours.water, alpha=0.18, linewidth=0, label="90 % interval",
    )  # fmt: skip
    axes.plot(
        xs, [base / one.median for one in found.seconds], color=colours.water, linewidth=1.8,
        marker="o", markersize=4, label="the fitted law",
    )  # fmt: skip
    if found.points:
        axes.scatter(
            [of(one.value) for one in found.points], [base / one.seconds for one in found.points],
            s=26, marker=MARKERS[3], facecolors="none", edgecolors=colours.amber, linewidths=1.1,
            label="trials, other levers taken out", zorder=4,
        )  # fmt: skip
    most = [x / xs[0] for x in xs]
    axes.plot(xs, most, color=colours.quiet, linestyle=":", linewidth=1.2, label="all of it")
    high = max(base / one.low for one in found.seconds)
    axes.set_ylim(0, max(high, 1.2) * 1.15)
    for x, one in zip(xs, found.seconds, strict=True):
        share = base / one.median / (x / xs[0])
        axes.annotate(
            f"{share * 100:.0f} %", (x, 0.03), xycoords=("data", "axes fraction"), ha="center",
            fontsize=8, color=colours.quiet,
        )  # fmt: skip
    axes.set_xscale("log", base=2)
    axes.set_xticks(xs, [str(value) for value in found.values])
    axes.minorticks_off()
    axes.set_ylabel("times as fast (below: efficiency)")
    axes.margins(x=0.12)
    _above(axes, 2)


def against_streams(axes: Any, told: Decided, colours: Palette) -> None:
    """Speed-up and efficiency against load streams."""
    _speed(axes, curve_of(told, "load_streams"), colours, float)
    axes.set_xlabel("load streams")


def against_tier(axes: Any, told: Decided, colours: Palette) -> None:
    """Speed-up and efficiency against the compute's size."""
    _speed(axes, curve_of(told, "tier"), colours, lambda tier: float(tier_units(tier)))
    axes.set_xlabel("tier of the compute")


def against_part_size(axes: Any, told: Decided, colours: Palette) -> None:
    """Time against part size."""
    found = curve_of(told, "part_size")
    xs = [float(value) for value in found.values]
    axes.fill_between(
        xs, [one.low for one in found.seconds], [one.high for one in found.seconds],
        color=colours.water, alpha=0.18, linewidth=0, label="90 % interval",
    )  # fmt: skip
    axes.plot(xs, [one.median for one in found.seconds], color=colours.water, linewidth=1.8,
              marker="o", markersize=4, label="the fitted law")  # fmt: skip
    if found.points:
        axes.scatter([float(one.value) for one in found.points],
                     [one.seconds for one in found.points], s=26, marker=MARKERS[3],
                     facecolors="none", edgecolors=colours.amber, linewidths=1.1,
                     label="trials, other levers taken out", zorder=4)  # fmt: skip
    axes.set_xscale("log", base=2)
    axes.set_xticks(xs, [LEVERS["part_size"].show(value) for value in found.values])
    axes.minorticks_off()
    axes.set_ylim(0, None)
    axes.set_xlabel("part size")
    axes.set_ylabel("time")
    axes.margins(x=0.12)
    _durations(axes.yaxis)
    _above(axes, 3)


def codecs(axes: Any, told: Decided, colours: Palette) -> None:
    """How fast each packing of this data is, against how small it makes it."""
    for number, (what, speed) in enumerate((("packing", "pack"), ("unpacking", "unpack"))):
        known = [one for one in told.codecs if getattr(one, speed) > 0]
        axes.scatter(
            [one.share for one in known], [getattr(one, speed) for one in known], s=44,
            marker=MARKERS[number], color=colours.series(number), label=what, zorder=3,
        )  # fmt: skip
        for place, one in enumerate(known):
            axes.annotate(
                one.name, (one.share, getattr(one, speed)),
                xytext=(6, 5 if place % 2 else -11), textcoords="offset points", fontsize=8,
                color=colours.quiet,
            )  # fmt: skip
    axes.set_yscale("log")
    axes.set_xlim(0, max(one.share for one in told.codecs) * 1.25)
    axes.set_xlabel("packed over unpacked size")
    axes.set_ylabel("MB/s of one core, unpacked")
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    axes.yaxis.set_minor_formatter(lambda value, _: f"{value:,.0f}")
    axes.tick_params(axis="y", which="minor", labelsize=7)
    _above(axes, 2)


def forecast_and_actual(axes: Any, told: Decided, colours: Palette) -> None:
    """Each run beside its forecast."""
    runs = told.runs[-20:]
    rows = range(len(runs))
    medians = [one.median for one in runs]
    axes.errorbar(
        medians, rows, xerr=[[one.median - one.low for one in runs],
                             [one.high - one.median for one in runs]], fmt="o", markersize=5,
        color=colours.water, ecolor=colours.water, elinewidth=2.4, alpha=0.9,
        label="forecast, 90 % interval",
    )  # fmt: skip
    axes.scatter([one.actual for one in runs], rows, marker="D", s=40, color=colours.amber,
                 zorder=4, label="actual")  # fmt: skip
    axes.set_yticks(rows, [f"{one.table}\n{one.at[:16].replace('T', ' ')}" for one in runs])
    axes.tick_params(axis="y", labelsize=8, length=0, labelcolor=colours.ink)
    axes.set_ylim(-0.7, len(runs) - 0.3)
    axes.set_xlim(0, None)
    axes.grid(visible=False, axis="y")
    _durations(axes.xaxis)
    axes.set_xlabel("time")
    _above(axes, 2)


def drift(axes: Any, told: Decided, colours: Palette) -> None:
    """The reference over the sweep: whether the machine stayed as it was."""
    trials = [one for one in told.trials if one.role != "warm-up" and not one.failure]
    base = [n for n, one in enumerate(trials) if one.role == "reference"]
    first = trials[base[0]].seconds
    axes.axhline(1.0, color=colours.quiet, linestyle=":", linewidth=1.2)
    axes.plot([n + 1 for n in base], [trials[n].seconds / first for n in base], marker="s",
              color=colours.water, linewidth=1.6, label="the reference")  # fmt: skip
    axes.set_xlabel("trial of the sweep")
    axes.set_ylabel("time over its first time")
    axes.set_ylim(0, max(1.5, *(trials[n].seconds / first * 1.2 for n in base)))
    axes.set_xlim(0, len(trials) + 1)
    _above(axes, 1)


def ceilings(axes: Any, told: Decided, colours: Palette) -> None:
    """How near each phase came to what this machine and its lines can do at most."""
    near = told.nearness[::-1]
    shares = [float(one["share"]) for one in near]
    axes.barh(range(len(near)), shares, height=0.5, color=colours.water)
    axes.axvline(1.0, color=colours.brick, linestyle="--", linewidth=1.3)
    axes.set_yticks(range(len(near)), [f"{one['phase']}\n{_wrapped(str(one['what']), 30)}"
                                       for one in near])  # fmt: skip
    axes.tick_params(axis="y", labelsize=8, length=0, labelcolor=colours.ink)
    axes.grid(visible=False, axis="y")
    axes.set_xlim(0, max(1.1, *shares))
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
    axes.set_xlabel("of its ceiling")


def bars(
    values: Sequence[tuple[str, float]], show: Callable[[float], str]
) -> Callable[[Any, Any, Palette], None]:
    """How to draw named figures as bars, each with its value at its end."""

    def draw(axes: Any, told: Any, colours: Palette) -> None:
        rows = range(len(values))
        axes.barh(rows, [value for _, value in values], height=0.6, color=colours.water)
        most = max((value for _, value in values), default=1.0) or 1.0
        for row, (_, value) in enumerate(values):
            axes.annotate(show(value), (value, row), xytext=(5, 0), textcoords="offset points",
                          va="center", fontsize=8, color=colours.quiet)  # fmt: skip
        _named(axes, [name for name, _ in values])
        axes.set_xlim(0, most * 1.18)
        axes.xaxis.set_major_formatter(lambda value, _: show(value) if value > 0 else "0")
        axes.tick_params(axis="x", labelsize=8)
        if all(float(value).is_integer() for _, value in values):
            axes.xaxis.get_major_locator().set_params(integer=True)

    return draw


def spans(
    values: Sequence[tuple[str, float, float, float, float | None]],
    show: Callable[[float], str],
    line: float | None = None,
) -> Callable[[Any, Any, Palette], None]:
    """How to draw medians with their intervals, and beside each what it really was if known."""

    def draw(axes: Any, told: Any, colours: Palette) -> None:
        rows = range(len(values))
        axes.errorbar(
            [one[2] for one in values], rows,
            xerr=[[one[2] - one[1] for one in values], [one[3] - one[2] for one in values]],
            fmt="o", markersize=5, color=colours.water, ecolor=colours.water, elinewidth=2.4,
            label="median, 90 % interval",
        )  # fmt: skip
        real = [(one[4], row) for row, one in enumerate(values) if one[4] is not None]
        if real:
            axes.scatter([one for one, _ in real], [row for _, row in real], marker="D", s=42,
                         color=colours.amber, zorder=4, label="actual")  # fmt: skip
            axes.legend(loc="best")
        if line is not None:
            axes.axvline(line, color=colours.brick, linestyle="--", linewidth=1.2)
        _named(axes, [one[0] for one in values])
        axes.xaxis.set_major_formatter(lambda value, _: show(value))

    return draw


def _above(axes: Any, columns: int) -> None:
    """The legend above all that is drawn, where it hides nothing."""
    axes.legend(loc="lower left", bbox_to_anchor=(0, 1.0), ncols=columns, borderaxespad=0.2,
                handlelength=1.6, columnspacing=1.4)  # fmt: skip


def _named(axes: Any, names: Sequence[str]) -> None:
    """Rows with their names, the first one above."""
    axes.set_yticks(range(len(names)), names)
    axes.tick_params(axis="y", labelsize=8, length=0)
    axes.set_ylim(len(names) - 0.4, -0.6)
    axes.grid(visible=False, axis="y")


def curve_of(told: Decided, lever: str) -> Curve:
    return next(one for one in told.curves if one.lever == lever)


def _durations(axis: Any) -> None:
    from matplotlib.ticker import NullFormatter

    axis.set_major_formatter(lambda value, _: show_duration(value) if value > 0 else "0")
    axis.set_minor_formatter(NullFormatter())


def _wrapped(text: str, width: int = 34) -> str:
    import textwrap

    return "\n".join(textwrap.wrap(text, width)[:3])
