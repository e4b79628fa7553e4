"""What a sweep says before it begins and while it lasts."""

from __future__ import annotations

from collections.abc import Sequence
from time import perf_counter
from typing import TYPE_CHECKING, Any

from splarn.core.units import plural, show_duration, show_money, show_size

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.tuning.configuration import Space
    from splarn.core.tuning.foreseen import Foreseen
    from splarn.core.tuning.strategy import Strategy
    from splarn.core.tuning.trial import Trial
    from splarn.core.work.progress import Progress


def say_left_out(out: Output, space: Space) -> list[dict[str, Any]]:
    """Says what of the space is left out and why; returns that for JSON."""
    left = space.left_out()
    for reason, count in left:
        out.note(f"{plural(count, 'configuration')} left out: {reason}.")
    return [{"reason": reason, "configurations": count} for reason, count in left]


def say_foreseen(out: Output, foreseen: Foreseen, loads: int, currency: str, by: str) -> None:
    """About how long and for how much it will try, and a word when that cannot pay."""

    def amount(seconds: float, cost: float) -> str:
        money = f" and {show_money(cost, currency)}" if cost else ""
        return f"{show_duration(seconds)}{money}"

    one = amount(foreseen.load_seconds, foreseen.load_cost)
    every = amount(foreseen.load_seconds * loads, foreseen.load_cost * loads)
    out.say(
        f"By {by}, some {foreseen.trials} trials will take about "
        f"{amount(foreseen.seconds, foreseen.cost)}; one load of all takes about {one}"
        + (f", {loads:,} of them {every}." if loads > 1 else ".")
    )
    if not foreseen.pays(loads):
        of = "that load" if loads == 1 else f"all {loads:,} loads together"
        out.note(
            f"Trying takes more than {of}: it pays only where the load comes again and again (say "
            "how often with --loads), or with a smaller --sample, --time-budget or --money-budget."
        )


def require_enough(
    foreseen: Foreseen, limit: float | None, money: float | None, share: float = 1.0
) -> None:
    """Raises RequestError where a budget is spent before a share of the first trials is done."""
    from splarn.core.errors import RequestError

    seconds, cost = foreseen.least()
    for option, budget, needed, show in (
        ("--time-budget", limit, seconds, show_duration),
        ("--money-budget", money, cost, show_money),
    ):
        if budget is not None and budget < share * needed:
            raise RequestError(
                f"{option}: {show(budget)} is too small for the {foreseen.start} trials that a "
                f"sweep begins with, which take about {show(needed)}: give at least that, or a "
                "smaller --sample."
            )


class Watched:
    """Follows a sweep's trials on the live view: the best so far, and what it may lose."""

    def __init__(
        self,
        progress: Progress,
        chooser: Strategy,
        wanted: float,
        priced: Any,
        currency: str,
        money: float | None,
        limit: float | None,
    ) -> None:
        self.progress, self.chooser, self.wanted = progress, chooser, wanted
        self.priced, self.currency, self.money = priced, currency, money
        self.limit, self.begun = limit, perf_counter()

    def tell(self, trials: Sequence[Trial]) -> None:
        """Puts what is known by now beside how far the sweep is."""
        from splarn.core.tuning.statistics import summarise
        from splarn.core.work.progress import Silent

        if isinstance(self.progress, Silent):
            # Nobody looks, so that nothing need be known of it.
            return
        pieces = []
        outlook = self.chooser.thought(trials)
        if outlook is not None:
            show = show_duration if outlook.in_seconds else show_money
            low, high = (show(one) for one in outlook.span)
            unit = "" if outlook.in_seconds else f" {self.currency}"
            pieces.append(f"best so far {outlook.choice}: {low} to {high}{unit}")
            pieces.append(f"chance {outlook.chance(self.wanted):.0%}")
            pieces.append(f"regret {outlook.regret:.1%}")
        else:
            summaries = summarise(trials)
            if summaries:
                fastest = summaries[0]
                pieces.append(
                    f"best so far {fastest.configuration}: {show_duration(fastest.median)}"
                )
        spent = sum(self.priced(trial) for trial in trials)
        if spent:
            left = f" of {show_money(self.money)}" if self.money is not None else ""
            pieces.append(f"spent {show_money(spent)}{left} {self.currency}")
        if self.limit is not None:
            over = max(self.limit - (perf_counter() - self.begun), 0.0)
            pieces.append(f"{show_duration(over)} of {show_duration(self.limit)} left")
        self.progress.status(", ".join(pieces))


def say_caches(out: Output, cold: bool, sample: int) -> None:
    """What was warm and what was not."""
    source = "read from the disk anew for each trial" if cold else "in this machine's memory"
    out.say(
        f"Caches: the sample ({show_size(sample)}) is {source}; the target's own are as the trials "
        "before left them."
    )
