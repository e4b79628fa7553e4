"""What `sweep` shows: the design, the trials, and what they say of the decision."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from statistics import median
from typing import TYPE_CHECKING, Any

from splarn.cli.learned import varying
from splarn.cli.tables import Column
from splarn.core.units import plural, show_change, show_duration, show_range, show_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.ledger import Entry
    from splarn.core.tuning.foreseen import Foreseen
    from splarn.core.tuning.strategy import Strategy
    from splarn.core.tuning.trial import Trial

# More repeats than these are no advice.
MANY = 60


def show_design(
    out: Output,
    chooser: Strategy,
    name: str,
    sample: int,
    foreseen: Foreseen | None,
    left_out: list[dict[str, Any]],
) -> None:
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
            "foreseen": None if foreseen is None else asdict(foreseen),
            "left_out": left_out,
        }
    )


def show_decision(
    out: Output, chooser: Strategy, trials: Sequence[Trial], volume: float, regret: float
) -> dict[str, Any]:
    """What an adaptive sweep would choose by now, and what that is expected to lose."""
    outlook = chooser.thought(trials)
    if outlook is None:
        return {}
    best, chance = outlook.choice, outlook.chance(regret)
    wanted = regret * 100
    out.say(
        f"Best for {show_size(volume)} by what was learned: {best}. Deciding for it now is "
        f"expected to lose {outlook.regret:.1%}; the chance that none is better by more "
        f"than {wanted:.3g} % is {chance:.0%}."
    )
    if chooser.ended == "no trial promises to tell more":
        out.note(
            "Trials scatter by about as much as the best configurations differ; a larger --sample "
            "tells them apart better than more trials of this one."
        )
    return {
        "best": {"configuration": best.as_json(), "chance": chance},
        "regret": {"expected": outlook.regret, "wanted": regret},
    }


def trial_document(trial: Trial, context: Context) -> dict[str, Any]:
    """A trial as JSON, with its cost in all and by item."""
    priced = context.priced(lambda _: trial.usage)
    document = {**trial.as_json(), **priced}
    if priced:
        document |= {"cost": priced["cost"]["total"], "cost_items": priced["cost"]}
    return document


def show_trials(out: Output, trials: Sequence[Trial], stopped: str) -> dict[str, Any]:
    """Medians of every configuration, fastest first, what failed, and how far all drifted.

    Returns the fastest and the drift for JSON.
    """
    from splarn.core.tuning.statistics import doubt_of, drift_of, summarise

    summaries = summarise(trials)
    most = 12
    # Phases in which no time to speak of went by are left out; the others add up to the time.
    total = sum(summary.median for summary in summaries)
    phases = [
        phase
        for phase in (summaries[0].phases if summaries else ())
        if sum(summary.phases.get(phase, 0.0) for summary in summaries) >= 0.005 * total
    ]
    moved = drift_of(trials)
    drifts = moved is not None and moved.is_sure
    levers = varying(out, [summary.configuration for summary in summaries])
    gauged = any(summary.cpu_seconds for summary in summaries)
    out.table(
        [
            *levers.values(),
            ">time",
            Column(">90 % interval", 1),
            *([Column(">less drift", 10)] if drifts else []),
            *(Column(f">{phase}", 2 + at) for at, phase in enumerate(phases)),
            *([Column(">core-s", 11), Column(">memory", 12)] if gauged else []),
        ],
        (
            (
                *(summary.configuration.show(lever) for lever in levers),
                show_duration(summary.median) + (" !" if summary.outliers else ""),
                show_range(summary.low, summary.high, show_duration),
                *([show_duration(summary.corrected)] if drifts else []),
                *(show_duration(summary.phases[phase]) for phase in phases),
                *([f"{summary.cpu_seconds:.2f}", show_size(summary.peak_memory)] if gauged else []),
            )
            for summary in summaries[:most]
        ),
    )
    if len(summaries) > most:
        out.say(f"… and {plural(len(summaries) - most, 'slower configuration')}.")
    others = sum(trial.share != 1.0 for trial in trials)
    besides = f", {others} of them of less or more than the sample" if others else ""
    of = " of the others" if others else ""
    out.say(
        f"{plural(len(trials), 'trial')} in {show_duration(sum(t.seconds for t in trials))}"
        f"{besides} ({stopped}); medians{of}, fastest first."
    )
    far = sum(summary.outliers for summary in summaries)
    if far:
        out.note(f"! marks repeats far from their others, which are kept ({far}).")
    failed = [trial for trial in trials if trial.failure]
    for trial in failed[:5]:
        out.bad(f"A trial failed and tells nothing ({trial.configuration}): {trial.failure}.")
    if len(failed) > 5:
        out.bad(f"{plural(len(failed) - 5, 'more trial')} failed; `splarn ledger` has them.")
    if moved is not None:
        span = f"{show_change(moved.low)} to {show_change(moved.high)}"
        if moved.is_sure:
            out.note(
                f"The machine drifted by {show_change(moved.share)} ({span}) over the sweep, as "
                "the reference shows; the time less that stands beside."
            )
        else:
            out.say(f"No drift that can be told: {span} over the sweep, as the reference shows.")
    doubt = doubt_of(trials, summaries)
    if doubt is not None:
        out.say(
            f"The two fastest cannot be told apart by their own trials: they differ by "
            f"{doubt.difference:.1%} and runs scatter by {doubt.spread:.0%}; "
            + (
                f"about {plural(doubt.repeats, 'repeat')} of each would."
                if doubt.repeats <= MANY
                else "take either, since no number of repeats that is worth it would."
            )
        )
    if not summaries:
        return {}
    fastest = summaries[0]
    return {
        "best": {"configuration": fastest.configuration.as_json(), "chance": None},
        "regret": {"expected": None},
        "drift": None if moved is None else asdict(moved),
    }


def show_readers(out: Output, trials: Sequence[Trial], crew: int) -> dict[str, Any]:
    """How much loading and reading slowed one another, by the reference with readers and without.

    Returns the same for JSON.
    """
    from splarn.core.tuning.comparison import Side, compare, measure_of

    beside = [one for one in trials if one.role == "reference" and one.tells]
    alone = [one for one in trials if one.role == "alone" and not one.failure]
    every = [one.read for one in trials if one.read.readings and not one.failure]
    document: dict[str, Any] = {"readers": {"sessions": crew}}
    if every:
        told = sorted(every, key=lambda one: one.median)[len(every) // 2]
        count = sum(one.readings for one in every)
        refused = sum(one.refused for one in every)
        again = f", {plural(refused, 'more')} refused and asked again" if refused else ""
        out.say(
            f"Beside the trials {plural(crew, 'session')} read {count:,} times{again}: "
            f"{show_duration(told.median)} at the median, nine in ten within "
            f"{show_duration(told.high)}."
        )
        document["readers"] |= told.as_json()
    else:
        out.note(f"The {plural(crew, 'session')} that read beside the trials got no answer.")
    if beside and alone:
        without, with_them = (tuple(map(measure_of, side)) for side in (alone, beside))
        found = compare(Side("alone", without), Side("beside readers", with_them)).whole
        span = f"[{found.low:.2f}, {found.high:.2f}]"
        end = "." if found.differs else ", which is no difference that can be told."
        out.say(f"Beside them a load takes {found.ratio:.2f}× {span} as long as alone{end}")
        document["readers"]["loading_takes"] = found.as_json()
    return document


def say_flow(out: Output, trials: Sequence[Trial]) -> dict[str, Any]:
    """What the fastest took with its stages at work at the same time, which a run has."""
    from splarn.core.tuning.design import FLOW

    flow = next((one for one in trials if one.role == FLOW and not one.failure), None)
    if flow is None:
        return {}
    alike = [one for one in trials if one.counts and one.configuration == flow.configuration]
    in_turn = median(one.seconds for one in alike)
    out.say(
        f"With all stages at work at the same time the fastest took "
        f"{show_duration(flow.overlapped)}, and {show_duration(in_turn)} with one after the other."
    )
    return {"flow": {"seconds": flow.overlapped, "in_turn": in_turn}}


def show_nearness(
    out: Output, trials: Sequence[Trial], probe: Entry | None, machine: str
) -> dict[str, Any]:
    """How near the fastest trial's phases come to what was probed on the same machine; for JSON."""
    from splarn.core.tuning.ceilings import nearness

    counting = [trial for trial in trials if trial.counts]
    if probe is None or not counting or probe.document.get("machine") != machine:
        return {"ceilings": []}
    found = nearness(min(counting, key=lambda one: one.seconds), probe.document)
    if found:
        told = "; ".join(f"{one.phase} {one.share:.0%} of {one.what}" for one in found)
        out.say(f"The fastest trial's phases beside their ceilings: {told}.")
    return {"ceilings": [one.as_json() for one in found]}
