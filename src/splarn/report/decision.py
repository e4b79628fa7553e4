"""The page of a decision: figures, every configuration, runs, trials, and how it was measured."""

from __future__ import annotations

from splarn.core.tuning.configuration import LEVERS
from splarn.core.units import plural, show_change, show_duration, show_money, show_range
from splarn.report.facts import Decided, Table
from splarn.report.figures import FIGURES
from splarn.report.page import Page, shown

# Trials and runs beyond so many are told by their number alone.
MOST = 200


def page_of_decision(told: Decided) -> Page:
    """All that is told of a decision."""
    figures = tuple(shown(one, told) for one in FIGURES.values() if one.needs(told))
    tables = [_configurations(told)]
    if told.runs:
        tables.append(_runs(told))
    if told.loads:
        tables.append(_loads(told))
    if told.trials:
        tables.append(_trials(told))
    return Page(
        "Plan",
        told.title,
        (f"{told.id}, by Splarn",),
        told.sentences,
        figures,
        tuple(tables),
        (("Why this one", told.reasons), ("What to be careful about", told.doubts)),
        told.method,
    )


def _configurations(told: Decided) -> Table:
    varied = told.varied
    every = sorted(told.forecasts, key=lambda one: one.seconds.median)
    # A choice is seen first, wherever it stands.
    every.sort(key=lambda one: one is not told.chosen)
    rows, keys = [], []
    for one in every:
        levers = [one.configuration.show(lever) for lever in varied]
        span = one.seconds
        rows.append((
            "→" if one is told.chosen else "", *levers, show_duration(span.median),
            show_range(span.low, span.high, show_duration), show_money(one.cost.median),
            one.binding_phase, "yes" if one.on_frontier else "",
            "beyond what was tried" if one.extrapolated else "",
        ))  # fmt: skip
        keys.append((
            0 if one is told.chosen else 1,
            *(_key(getattr(one.configuration, lever)) for lever in varied), span.median, span.low,
            one.cost.median, "", "", "",
        ))  # fmt: skip
    names = [LEVERS[lever].words for lever in varied]
    title = "Every configuration" if told.count == len(rows) else (
        f"The best of {told.count:,} configurations"
    )  # fmt: skip
    return Table(
        title,
        ("", *names, "time", "90 % interval", f"cost, {told.currency}", "binding", "frontier",
         "take care"),
        tuple(rows),
        (False, *(LEVERS[lever].is_number for lever in varied), True, True, True, False, False,
         False),
        tuple(keys),
    )  # fmt: skip


def _key(value: object) -> float | str:
    return value if isinstance(value, int | float) else str(value)


def _runs(told: Decided) -> Table:
    rows, keys = [], []
    for one in reversed(told.runs):
        change = one.actual / one.median - 1 if one.median else 0.0
        words = f"{show_change(abs(change)).lstrip('+')} {'slower' if change > 0 else 'faster'}"
        rows.append((
            one.at[:16].replace("T", " "), one.table, f"{one.rows:,}", show_duration(one.median),
            show_range(one.low, one.high, show_duration), show_duration(one.actual), words,
            show_money(one.cost),
        ))  # fmt: skip
        keys.append(("", "", one.rows, one.median, one.low, one.actual, change, one.cost))
    return Table(
        "Runs beside their forecasts",
        ("when", "table", "rows", "forecast", "90 % interval", "actual", "than forecast",
         f"cost, {told.currency}"),
        tuple(rows), (False, False, True, True, True, True, True, True), tuple(keys),
    )  # fmt: skip


def _loads(told: Decided) -> Table:
    rows, keys = [], []
    for one in reversed(told.loads[-MOST:]):
        looked = one.get("verified")
        verified = "not looked at" if looked is None else "yes" if looked else "no: it differs"
        rejected = int(one.get("rows_rejected", 0))
        rows.append((
            str(one.get("at", ""))[:16].replace("T", " "), str(one.get("load_id", "")),
            f"{one.get('rows_loaded', 0):,}", f"{rejected:,}",
            show_duration(float(one.get("seconds", 0.0))), verified,
            str(one.get("rejects") or ""),
        ))  # fmt: skip
        keys.append(("", "", one.get("rows_loaded", 0), rejected, one.get("seconds", 0.0), "", ""))
    return Table(
        "Loads of this table",
        ("when", "load", "rows", "rejected", "time", "verified", "rejects"),
        tuple(rows), (False, False, True, True, True, False, False), tuple(keys),
    )  # fmt: skip


def _trials(told: Decided) -> Table:
    phases = list(told.chosen.phases)
    rows: list[tuple[str, ...]] = []
    keys: list[tuple[float | str, ...]] = []
    for number, one in enumerate(told.trials[:MOST], 1):
        rows.append((
            str(number), one.role, told.label(one.configuration), show_duration(one.seconds),
            *(show_duration(one.phases[phase]) if phase in one.phases else "" for phase in phases),
            f"{one.rows:,}", one.failure,
        ))  # fmt: skip
        keys.append((
            float(number), "", "", one.seconds, *(one.phases.get(phase, 0.0) for phase in phases),
            one.rows, "",
        ))  # fmt: skip
    return Table(
        f"The sweep's {plural(len(told.trials), 'trial')}",
        ("", "role", "configuration", "time", *phases, "rows", "failure"),
        tuple(rows),
        (True, False, False, True, *(True for _ in phases), True, False),
        tuple(keys),
    )
