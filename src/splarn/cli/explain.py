"""One forecast explained: what its time is made of, what trials say, what speaks against it."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from splarn.cli.charts import bars
from splarn.cli.tables import Column, name
from splarn.cli.tables import text as sentences
from splarn.core.units import plural, show_duration

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.tuning.columns import Volume
    from splarn.core.tuning.explain import Finding
    from splarn.core.tuning.forecast import Forecast
    from splarn.core.tuning.learning import Learned

# Pieces of less than this share are put together.
SMALL = 0.01


def explained(out: Output, learned: Learned, told: Forecast, volume: Volume) -> dict[str, Any]:
    """Shows it, and returns it for a document."""
    from splarn.core.tuning.doubts import LEAST, doubts
    from splarn.core.tuning.explain import causes, findings
    from splarn.core.tuning.variants import variants

    pieces = causes(learned.model, told.configuration, volume)
    total = sum(one.seconds for one in pieces) or 1.0
    shown = [one for one in pieces if one.seconds >= SMALL * total]
    rest = total - sum(one.seconds for one in shown)
    out.say()
    out.head(str(told.configuration))
    drawn = bars([one.seconds for one in shown])
    rows = [
        (one.phase, one.words, show_duration(one.seconds), f"{one.seconds / total:.0%}", line)
        for one, line in zip(shown, drawn, strict=True)
    ]
    if rest > 0:
        rows.append(("", "all else", show_duration(rest), f"{rest / total:.0%}", ""))
    out.table(["phase", name("goes into"), ">time", ">share", Column("", 2)], rows)
    if told.in_turn.median > 1.02 * told.seconds.median:
        out.say(
            f"These add up to {show_duration(total)}, one stage after the other; a run has stages "
            f"at work at the same time and takes {show_duration(told.seconds.median)}."
        )
    said = findings(learned.model)
    out.say("What the trials say, with 90 % intervals:")
    out.table(
        ["phase", sentences("")],
        [(one.phase, _sentence(one)) for one in said if one.told],
    )
    unknown = [one for one in said if not one.told]
    if unknown:
        out.say("What they do not tell: " + "; ".join(_limit(one) for one in unknown) + ".")
    used = [trial for trial in learned.evidence.trials if trial.tells]
    compared = variants(learned.model, used)
    needed = [f"{one.words} ({one.phase})" for one in compared if one.needed]
    spare = [f"{one.words} ({one.phase})" for one in compared if not one.needed]
    if needed:
        out.say(f"Without these, trials would be foretold worse: {'; '.join(needed)}.")
    if spare:
        out.say(f"They speak neither for nor against: {'; '.join(spare)}.")
    check = learned.model.left_out
    if check is not None and check.foretold >= LEAST:
        out.say(
            f"Of {plural(check.trials, 'trial')} {check.foretold} can be foretold by the others; "
            f"{check.held} of these lie in their 90 % interval."
        )
    elif check is not None:
        out.say("There are too few trials to foretell each by the others.")
    against = doubts(learned.model)
    return {
        "configuration": told.configuration.as_json(),
        "causes": [
            {"phase": one.phase, "words": one.words, "seconds": one.seconds} for one in pieces
        ],
        "parameters": [
            {
                "phase": one.phase, "words": one.words, "low": one.low, "median": one.median,
                "high": one.high, "unit": one.unit, "told": one.told,
                "would_tell": one.would_tell,
            }
            for one in said
        ],
        "left_out": None if check is None else asdict(check),
        "laws": [
            {"phase": one.phase, "without": one.words, "gain": one.gain, "error": one.error,
             "needed": one.needed}
            for one in compared
        ],
        "doubts": against,
    }  # fmt: skip


def _sentence(one: Finding) -> str:
    low, median, high = (_value(value, one.unit) for value in (one.low, one.median, one.high))
    return f"{one.words.format(median)} [{low}, {high}]"


def _limit(one: Finding) -> str:
    tells = f" (trials with other {one.would_tell} would)" if one.would_tell else ""
    return one.words.format("…") + tells


def _value(value: float, unit: str) -> str:
    if unit == "share":
        return f"{value:.1%}"
    if unit == "count":
        return f"{value:.1f}"
    for scale, word in ((1.0, "s"), (1e-3, "ms"), (1e-6, "µs")):
        if value >= scale:
            return f"{value / scale:.3g} {word}"
    return f"{value / 1e-9:.3g} ns"
