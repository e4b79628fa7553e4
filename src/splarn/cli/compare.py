"""`splarn compare`: runs held against one another."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.options import AsJson, JobFile
from splarn.cli.tables import Column

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.ledger import Entry, Ledger
    from splarn.core.tuning.comparison import Comparison, Effect, Ratio, Side

# Entries that have times to compare.
TIMED = ("load", "run", "trial", "sweep")


def compare(
    entries: Annotated[
        list[str],
        typer.Argument(
            metavar="ID...",
            help="Loads, runs, trials or sweeps of the ledger, or last; the first is what others "
            "are held against. A sweep alone is asked what its levers do.",
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
    from splarn.core.tuning.comparison import effects
    from splarn.core.units import parse_share

    context = Context(job, as_json)
    limit = (
        None if fail_if_slower is None else read("--fail-if-slower", parse_share, fail_if_slower)
    )
    with context.ledger() as ledger:
        found = [_last(ledger) if one == "last" else ledger.find(one) for one in entries]
        sides = [_side(ledger, one) for one in found]
        steps = effects(_trials(ledger, found[0])) if found[0].kind == "sweep" else []
    if len(sides) == 1 and not steps:
        raise RequestError(
            f"{found[0].id} alone cannot be compared: name another one, or a sweep of several "
            "configurations."
        )
    comparisons = [held(sides[0], other) for other in sides[1:]]
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
            "first": sides[0].name,
            "comparisons": [_document(one) for one in comparisons],
            "effects": [
                {
                    "lever": step.lever,
                    "from": step.was,
                    "to": step.now,
                    "pairs": step.pairs,
                    "speed": step.speed.as_json(),
                }
                for step in steps
            ],
            "slower": slower,
        }
    )
    if slower:
        raise typer.Exit(1)


def _last(ledger: Ledger) -> Entry:
    from splarn.core.errors import RequestError

    timed = [one for one in ledger.entries() if one.kind in TIMED and one.kind != "trial"]
    if not timed:
        raise RequestError(f"The ledger {ledger.path} has nothing to compare yet.")
    return timed[-1]


def _trials(ledger: Ledger, sweep: Entry) -> list[Any]:
    from splarn.core.tuning.trial import Trial

    return [Trial.from_json(one.document) for one in ledger.entries("trial", parent=sweep.id)]


def _side(ledger: Ledger, entry: Entry) -> Side:
    """An entry's measured runs, and the facts that may differ.

    Raises RequestError for one without times.
    """
    from splarn.core.errors import RequestError
    from splarn.core.tuning.comparison import Measure, Side, measure_of
    from splarn.core.tuning.trial import Trial

    document = entry.document
    if entry.kind == "sweep":
        trials = [trial for trial in _trials(ledger, entry) if trial.counts]
        measures = tuple(map(measure_of, trials))
    elif entry.kind == "trial":
        trial = Trial.from_json(document)
        measures = () if trial.failure else (measure_of(trial),)
    else:
        inner = document.get("load", document)
        timed = document.get("actual", document)
        rows = inner.get("rows_loaded", 0) + inner.get("rows_rejected", 0)
        phases, seconds = timed.get("phases", {}), timed.get("seconds", 0.0)
        measures = (Measure(seconds, phases, rows),) if seconds and phases else ()
    if entry.kind not in TIMED or not measures:
        raise RequestError(
            f"{entry.kind} {entry.id} has no times to compare: name loads, runs, trials or sweeps "
            "that came to their end."
        )
    inner = document.get("load", document)
    facts = {
        "target": str(inner.get("target") or document.get("target") or ""),
        "layout": str(document.get("layout_name") or ""),
        "rows": f"{round(measures[0].rows):,}",
        "configuration": str(measures[0].configuration or "") if entry.kind == "trial" else "",
        "setting": str(document.get("settings") or ""),
        "machine": str(document.get("machine") or ""),
    }
    return Side(entry.id, measures, {what: fact for what, fact in facts.items() if fact})


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
        "other": one.other.name,
        "whole": one.whole.as_json(),
        "phases": {phase: found.as_json() for phase, found in one.phases.items()},
        "matched_configurations": one.matched,
        "per_row": one.per_row,
        "different": [list(fact) for fact in one.different],
    }
