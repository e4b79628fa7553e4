"""The live view of a run: a line a stage, and how it is going to end."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from splarn.cli.output import MARK
from splarn.cli.plain import escaped
from splarn.core.units import plural, show_change, show_duration, show_money, show_size

if TYPE_CHECKING:
    from rich.console import Console

    from splarn.core.flow.watching import StageWatch, Watching
    from splarn.core.run.outlook import Outlook
    from splarn.core.tuning.plan_file import Plan

# How often it is looked whether the run leaves its forecast, in seconds.
LOOK_EVERY = 0.1
# What is wanted of a chance for a deadline to be called likely.
LIKELY = 0.5
# What another number of streams or tier must save to be worth a word.
WORTH = 0.9


class FlowView:
    """Shown while a run lasts, where someone is looking; it warns in any case, once a stage.

    `ceilings` are bytes a second that stages reach at most here, where that is known.
    """

    def __init__(
        self,
        console: Console | None,
        watching: Watching,
        plan: Plan,
        ceilings: Mapping[str, float],
        warn: Any,
        foresees: bool = True,
    ) -> None:
        """Without `foresees` nothing is said of its end: the target has a time of its own."""
        self._foresees = foresees
        self._console, self._watching, self._plan = console, watching, plan
        self._ceilings, self._warn = ceilings, warn
        self._live: Any = None
        self._warned: set[str] = set()
        self._lock, self._begun = threading.Lock(), False
        self._looked = 0.0

    def __enter__(self) -> FlowView:
        return self

    def _begin(self) -> None:
        """The view begins with the first part: before that something may be asked."""
        with self._lock:
            if self._console is None or self._begun:
                return
            self._begun = True
            from rich.live import Live

            self._live = Live(
                get_renderable=self._view, console=self._console, refresh_per_second=4,
                transient=True,
            )  # fmt: skip
            self._live.start()

    def __exit__(self, *_: object) -> None:
        with self._lock:
            self._begun = True
            if self._live is not None:
                self._live.stop()
                self._live = None

    def look(self, what: str) -> None:
        """Warns where the run has left what was forecast; told of whatever happens."""
        if what == "part":
            self._begin()
        with self._lock:
            # Stages tell of their parts from threads of their own.
            elapsed = self._watching.elapsed
            if not self._foresees or elapsed - self._looked < LOOK_EVERY:
                return
            self._looked = elapsed
            told = self._outlook()
            # The first parts tell little of the pace, so it must be more than likely.
            if not told.slow or told.slow in self._warned or told.low <= self._high:
                return
            self._warned.add(told.slow)
        self._say(late(told, self._plan))

    def _say(self, text: str) -> None:
        """A warning, above the view while there is one."""
        if self._live is None:
            self._warn(text)
        else:
            self._live.console.print(f"[yellow]{MARK}[/yellow] {escaped(text)}")

    @property
    def _high(self) -> float:
        return float(self._plan.forecast["seconds"]["high"])

    def _outlook(self) -> Outlook:
        from splarn.core.run.outlook import outlook

        watching, limit = self._watching, self._plan.limits.deadline
        return outlook(self._plan.forecast, watching.stands(), watching.elapsed, limit)

    def _view(self) -> Any:
        from rich.console import Group
        from rich.table import Table
        from rich.text import Text

        table = Table(box=None, pad_edge=False, show_header=False, padding=(0, 2, 0, 0))
        for justify in ("left", "right", "right", "right", "left"):
            table.add_column(justify=justify, no_wrap=True, overflow="ellipsis")
        for name in self._plan.forecast["phases"]:
            if name in self._watching.stages:
                table.add_row(*self._line(self._watching.stages[name]))
        return Group(table, Text(self._end(), no_wrap=True, overflow="ellipsis"))

    def _line(self, stage: StageWatch) -> tuple[str, ...]:
        active = self._watching.active.get(stage.name, lambda: self._watching.elapsed)()
        speed = stage.done / active if active > 0 else 0.0
        ceiling = self._ceilings.get(stage.name)
        near = f" ({speed / ceiling:.0%} of its ceiling)" if ceiling and speed else ""
        waiting = self._watching.waiting.get(stage.name)
        before = waiting() if waiting is not None else 0
        name = stage.name if stage.label == stage.name else stage.label
        return (
            name,
            f"{stage.share:.0%}".replace("%", " %"),
            f"{show_size(min(stage.done, stage.total))} of {show_size(stage.total)}",
            f"{speed / 1e6:,.1f} MB/s{near}" if speed else "",
            f"{plural(before, 'part')} waiting" if before else "",
        )

    def _end(self) -> str:
        if not self._foresees:
            return f"{show_duration(self._watching.elapsed)} of this machine's time"
        told = self._outlook()
        text = f"{show_duration(told.left)} left"
        expected = float(self._plan.forecast["seconds"]["median"])
        if told.total > 0 and expected > 0:
            change = told.total / expected - 1
            text += f", {show_change(abs(change)).lstrip('+')} "
            text += "longer than forecast" if change > 0 else "sooner than forecast"
        if told.chance is not None and self._plan.limits.deadline is not None:
            limit = show_duration(self._plan.limits.deadline)
            text += f"; deadline of {limit} {_chance(told.chance)} likely"
        return text


def late(told: Outlook, plan: Plan) -> str:
    """Which stage makes a run longer than forecast, whether it will do, and what could be done."""
    expected = plan.forecast["seconds"]
    text = (
        f"The {told.slow} stage takes {told.by:.1f} times as long as forecast: all will be done "
        f"after about {show_duration(told.total)}, and at most {show_duration(expected['high'])} "
        "were to be expected"
    )
    if told.chance is not None and plan.limits.deadline is not None:
        likely = "is still likely to be" if told.chance >= LIKELY else "will hardly be"
        text += (
            f"; the deadline of {show_duration(plan.limits.deadline)} {likely} kept "
            f"({_chance(told.chance)})"
        )
    return f"{text}.{_instead(told, plan)}"


def _instead(told: Outlook, plan: Plan) -> str:
    """What a plan's alternatives would save where loading is slow, and how to change to one."""
    from splarn.core.tuning.configuration import LEVERS

    if told.slow != "load" or not plan.alternatives:
        return ""
    best = min(plan.alternatives, key=lambda one: float(one["load"]))
    expected = float(plan.forecast["phases"]["load"])
    if best["load"] > WORTH * expected:
        return ""
    lever = LEVERS[best["lever"]]
    return (
        f" With {lever.words} {best['value']} loading was forecast to take "
        f"{show_duration(best['load'])} instead of {show_duration(expected)}, all for "
        f"{show_money(best['cost'], plan.prices.currency)}: Ctrl-C, {lever.key} changed in the "
        "plan, and the same command goes on with that."
    )


def _chance(chance: float) -> str:
    """A chance, which is never quite 0 or 1 by what is known."""
    if chance > 0.99:
        return "more than 99%"
    return f"{chance:.0%}" if chance >= 0.01 else "less than 1%"
