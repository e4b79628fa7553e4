"""What `sweep` shows: the design, the trials, and what they say of the decision."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from splarn.cli.learned import varying
from splarn.cli.tables import Column
from splarn.core.units import plural, show_duration, show_range, show_size

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.tuning.strategy import Strategy
    from splarn.core.tuning.trial import Trial


def show_design(out: Output, chooser: Strategy, name: str, sample: int) -> None:
    """What would be tried: trials that are known beforehand, and how many more there may be."""
    first = chooser.beforehand()
    levers = varying(out, [plan.configuration for plan in first])
    most = 24
    out.table(
        [">no.", "role", *levers.values()],
        (
            (str(number), plan.role, *(plan.configuration.show(lever) for lever in levers))
            for number, plan in enumerate(first[:most], 1)
        ),
    )
    if len(first) > most:
        out.say(f"… and {len(first) - most:,} more.")
    more = chooser.most() - len(first)
    further = f", then as many of up to {more:,} more as the decision needs" if more else ""
    out.say(
        f"Nothing was tried. By {name}, {plural(len(first), 'trial')} of {show_size(sample)} "
        f"{'is' if len(first) == 1 else 'are'} known beforehand{further}."
    )
    out.document(
        {
            "strategy": name,
            "beforehand": [
                {"role": plan.role, "configuration": plan.configuration.as_json()} for plan in first
            ],
            "most": chooser.most(),
        }
    )


def show_decision(
    out: Output, chooser: Strategy, trials: Sequence[Trial], volume: float
) -> dict[str, Any]:
    """What an adaptive sweep would choose by now, and what that is expected to lose."""
    thought = chooser.thought(trials)
    if thought is None:
        return {}
    best, outlook = thought
    out.say(
        f"Best for {show_size(volume)} by what was learned: {best}. Deciding for it now is "
        f"expected to lose {outlook.regret:.1%}; the chance that none is better by a hundredth "
        f"is {outlook.chance:.0%}."
    )
    if chooser.ended == "no trial promises to tell more":
        out.note(
            "Trials scatter by about as much as the best configurations differ; a larger --sample "
            "tells them apart better than more trials of this one."
        )
    return {"best": best.as_json(), "regret": outlook.regret, "chance": outlook.chance}


def show_trials(out: Output, trials: list[Trial], stopped: str) -> None:
    """Medians of every configuration, fastest first, what failed, and how far all drifted."""
    from splarn.core.tuning.statistics import drift, summarise

    summaries = summarise(trials)
    most = 12
    # Phases in which no time to speak of went by are left out; the others add up to the time.
    total = sum(summary.median for summary in summaries)
    phases = [
        phase
        for phase in (summaries[0].phases if summaries else ())
        if sum(summary.phases.get(phase, 0.0) for summary in summaries) >= 0.005 * total
    ]
    levers = varying(out, [summary.configuration for summary in summaries])
    gauged = any(summary.cpu_seconds for summary in summaries)
    out.table(
        [
            *levers.values(),
            ">time",
            Column(">range", 1),
            *(Column(f">{phase}", 2 + at) for at, phase in enumerate(phases)),
            *([Column(">core-s", 8), Column(">memory", 9)] if gauged else []),
        ],
        (
            (
                *(summary.configuration.show(lever) for lever in levers),
                show_duration(summary.median),
                show_range(summary.low, summary.high, show_duration),
                *(show_duration(summary.phases[phase]) for phase in phases),
                *([f"{summary.cpu_seconds:.2f}", show_size(summary.peak_memory)] if gauged else []),
            )
            for summary in summaries[:most]
        ),
    )
    if len(summaries) > most:
        out.say(f"… and {plural(len(summaries) - most, 'slower configuration')}.")
    out.say(
        f"{plural(len(trials), 'trial')} in {show_duration(sum(t.seconds for t in trials))} "
        f"({stopped}); medians, fastest first."
    )
    failed = [trial for trial in trials if trial.failure]
    for trial in failed[:5]:
        out.bad(f"A trial failed and tells nothing ({trial.configuration}): {trial.failure}.")
    if len(failed) > 5:
        out.bad(f"{plural(len(failed) - 5, 'more trial')} failed; `splarn ledger` has them.")
    moved = drift(trials)
    if moved is not None:
        word = "slower" if moved > 0 else "faster"
        text = f"The reference configuration was {abs(moved):.0%} {word} at the end than at first."
        (out.note if abs(moved) > 0.15 else out.say)(text)
