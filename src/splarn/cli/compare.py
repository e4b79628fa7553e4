"""`splarn compare`: runs held against one another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, replace
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.completing import ids_of
from splarn.cli.options import AsJson, JobFile
from splarn.cli.tables import Column, text

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.ledger import Entry, Ledger
    from splarn.core.tuning.comparison import Comparison, Effect, Measure, Ratio, Side, Standing

# Entries that have times to compare.
TIMED = ("load", "run", "trial", "sweep")


def compare(
    entries: Annotated[
        list[str],
        typer.Argument(
            metavar="ID|FILE...",
            help="Loads, runs, trials or sweeps of the ledger, last, or files that `ledger "
            "--export` wrote, here or elsewhere; the first is what others are held against. A "
            "sweep alone is asked what its levers do.",
            autocompletion=ids_of("load", "run", "sweep", "trial"),
        ),
    ],
    fail_if_slower: Annotated[
        str | None,
        typer.Option(
            "--fail-if-slower",
            metavar="SHARE",
            help="Exit 1 when another is slower than the first by more than this, surely.",
        ),
    ] = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Hold loads, runs, trials or sweeps against one another, with intervals.

    Example: [bold]splarn compare 20261125-0930 20261126-0931 --fail-if-slower 10%[/bold]

    Sweeps are compared configuration by configuration. Where an interval holds 1 there is no
    difference that can be told.
    """
    from splarn.cli.context import Context
    from splarn.cli.misuse import read
    from splarn.core.errors import RequestError
    from splarn.core.tuning.comparison import compare as held
    from splarn.core.tuning.comparison import effects, standings
    from splarn.core.units import parse_share

    context = Context(job, as_json)
    limit = (
        None if fail_if_slower is None else read("--fail-if-slower", parse_share, fail_if_slower)
    )
    with context.ledger() as ledger:
        found = [_found(ledger, one) for one in entries]
    sides = [_side(name, of) for name, of in found]
    steps = effects(_trials(found[0][1])) if _is_sweep(found[0][1]) else []
    if len(sides) == 1 and not steps:
        raise RequestError(
            f"{sides[0].name} alone cannot be compared: name another one, or a sweep of several "
            "configurations."
        )
    comparisons = [held(sides[0], other) for other in sides[1:]]
    if len(sides) > 1:
        _show_standings(context.out, standings(sides))
    for one in comparisons:
        _show(context.out, one)
    if steps and len(sides) == 1:
        _show_effects(context.out, steps)
    slower = [
        one.other.name for one in comparisons if limit is not None and one.whole.low > 1 + limit
    ]
    for name in slower:
        context.out.bad(f"{name} is slower than {sides[0].name} by more than {limit:.0%}.")
    context.out.document(
        {
            "pairs": [_document(one) for one in comparisons],
            "levers": [
                {
                    "lever": step.lever,
                    "from": step.was,
                    "to": step.now,
                    "pairs": step.pairs,
                    "ratio": step.speed.as_json(),
                }
                for step in steps
            ],
            "sides": [asdict(one) for one in standings(sides)],
            "slower": slower,
        }
    )
    if slower:
        raise typer.Exit(1)


def _found(ledger: Ledger, wanted: str) -> tuple[str, list[Entry]]:
    """What is named, and its entries: one of the ledger, with a sweep its trials, or a file's.

    Raises RequestError when there is no such one.
    """
    from pathlib import Path

    from splarn.core.measured import ENDINGS, entries_of, read_table

    if wanted.lower().endswith(ENDINGS):
        return wanted, entries_of(read_table(Path(wanted)), wanted)
    entry = _last(ledger) if wanted == "last" else ledger.find(wanted)
    more = ledger.entries("trial", parent=entry.id) if entry.kind == "sweep" else []
    return entry.id, [entry, *more]


def _last(ledger: Ledger) -> Entry:
    from splarn.core.errors import RequestError

    timed = [one for one in ledger.entries() if one.kind in TIMED and one.kind != "trial"]
    if not timed:
        raise RequestError(f"The ledger {ledger.path} has nothing to compare yet.")
    return timed[-1]


def _is_sweep(entries: Sequence[Entry]) -> bool:
    return len(entries) > 1 and entries[0].kind == "sweep"


def _trials(entries: Sequence[Entry]) -> list[Any]:
    from splarn.core.tuning.trial import Trial

    return [Trial.from_json(one.document) for one in entries if one.kind == "trial"]


def _measures(entry: Entry) -> list[Measure]:
    """The measured run that an entry is; none where it has no times."""
    from splarn.core.tuning.comparison import Measure, measure_of
    from splarn.core.tuning.trial import Trial

    document = entry.document
    cost = document.get("cost")
    paid = float(cost["total"]) if isinstance(cost, dict) and "total" in cost else None
    if entry.kind == "trial":
        trial = Trial.from_json(document)
        return [replace(measure_of(trial), cost=paid)] if trial.counts else []
    inner = document.get("load", document)
    timed = document.get("actual", document)
    rows = inner.get("rows_loaded", 0) + inner.get("rows_rejected", 0)
    phases, seconds = timed.get("phases", {}), timed.get("seconds", 0.0)
    return [Measure(seconds, phases, rows, cost=paid)] if seconds and phases else []


def _side(name: str, entries: Sequence[Entry]) -> Side:
    """Measured runs under one name, and the facts that may differ.

    Raises RequestError for one without times.
    """
    from splarn.core.errors import RequestError
    from splarn.core.tuning.comparison import Side

    timed = [one for one in entries if one.kind in TIMED and one.kind != "sweep"]
    measures = tuple(measure for one in timed for measure in _measures(one))
    if not measures:
        raise RequestError(
            f"{entries[0].kind + ' ' if entries else ''}{name} has no times to compare: name "
            "loads, runs, trials or sweeps that came to their end."
        )
    document = entries[0].document
    inner = document.get("load", document)
    alone = len(timed) == 1 and timed[0].kind == "trial"
    facts = {
        "target": str(inner.get("target") or document.get("target") or ""),
        "engine": str(inner.get("engine") or document.get("engine") or ""),
        "layout": str(document.get("layout_name") or ""),
        "rows": f"{round(measures[0].rows):,}",
        "configuration": str(measures[0].configuration or "") if alone else "",
        "setting": str(document.get("settings") or ""),
        "machine": str(document.get("machine") or ""),
    }
    return Side(name, measures, {what: fact for what, fact in facts.items() if fact})


def _show_standings(out: Output, found: Sequence[Standing]) -> None:
    """Time, throughput, speed-up, efficiency and cost of the sides beside one another."""
    from splarn.core.units import show_duration, show_money

    efficient = any(one.efficiency not in (None, one.speed_up) for one in found)
    costs = any(one.cost is not None for one in found)
    out.table(
        [
            text("runs of"),
            ">runs",
            ">time",
            ">rows/s",
            ">speed-up",
            *([Column(">efficiency", 1)] if efficient else []),
            *([Column(">cost", 2)] if costs else []),
        ],
        (
            (
                one.name,
                str(one.runs),
                show_duration(one.seconds),
                f"{one.rows_a_second:,.0f}",
                f"{one.speed_up:.2f}×",
                *(["" if one.efficiency is None else f"{one.efficiency:.0%}"] if efficient else []),
                *(["" if one.cost is None else show_money(one.cost)] if costs else []),
            )
            for one in found
        ),
    )


def _show(out: Output, one: Comparison) -> None:
    from splarn.core.units import plural

    of = f", {plural(one.matched, 'configuration')} that both tried" if one.matched else ""
    a_row = ", a row, since they have other numbers of rows" if one.per_row else ""
    out.head(f"{one.other.name} against {one.first.name}{of}{a_row}")
    for what, mine, theirs in one.different:
        out.say(f"{what} differs: {mine} and {theirs}.")
    ratios = {"in all": one.whole, **one.phases}
    out.table(
        ["", ">takes", Column(">90 % interval", 1), "which means"],
        (
            (name, f"{found.ratio:.2f}×", f"{found.low:.2f} – {found.high:.2f}", _meaning(found))
            for name, found in ratios.items()
        ),
    )
    runs = [len(side.measures) for side in (one.first, one.other)]
    if min(runs) < 3 and not one.matched:
        out.note(
            f"With {plural(runs[0], 'run')} against {runs[1]}, how far runs scatter is mostly "
            "supposed: three or more of each would tell smaller differences."
        )


def _meaning(found: Ratio) -> str:
    if not found.differs:
        return "no difference that can be told"
    if found.ratio > 1:
        return f"slower by {found.ratio - 1:.0%}"
    return f"faster: {1 / found.ratio:.2f} times the speed"


def _show_effects(out: Output, steps: list[Effect]) -> None:
    from splarn.core.tuning.configuration import LEVERS
    from splarn.core.units import plural

    # Bars of speed on one scale, the middle being no change.
    most = max(abs(_doublings(step.speed.ratio)) for step in steps) or 1.0
    out.table(
        [
            "lever",
            "step",
            ">speed",
            Column(">90 % interval", 1),
            Column("", 3),
            Column("from", 4),
        ],
        (
            (
                LEVERS[step.lever].words,
                f"{step.was} → {step.now}",
                f"{step.speed.ratio:.2f}×",
                f"{step.speed.low:.2f} – {step.speed.high:.2f}",
                _bar(_doublings(step.speed.ratio) / most) if step.speed.differs else "·",
                plural(step.pairs, "pair") if step.pairs else "the laws",
            )
            for step in steps
        ),
    )
    unsure = sum(not step.speed.differs for step in steps)
    if unsure:
        out.say(f"A dot marks steps whose effect cannot be told from noise ({unsure}).")


def _doublings(ratio: float) -> float:
    import math

    return math.log2(ratio)


def _bar(share: float, width: int = 8) -> str:
    cells = max(round(abs(share) * width), 1)
    return ("+" if share > 0 else "-") * cells


def _document(one: Comparison) -> dict[str, Any]:
    return {
        "a": one.first.name,
        "b": one.other.name,
        "ratio": one.whole.as_json(),
        "phases": {phase: found.as_json() for phase, found in one.phases.items()},
        "verdict": _meaning(one.whole),
        "matched_configurations": one.matched,
        "per_row": one.per_row,
        "different": [list(fact) for fact in one.different],
    }
