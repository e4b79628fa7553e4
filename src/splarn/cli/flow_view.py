"""The live view of a run: a line a stage, and how it is going to end."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from splarn.cli.output import MARK
from splarn.cli.plain import escaped
from splarn.core.run.steering import LIKELY, LOOK_EVERY, WORTH, Foresight, Steering
from splarn.core.units import plural, show_change, show_duration, show_money, show_size

if TYPE_CHECKING:
    from rich.console import Console

    from splarn.core.flow.watching import StageWatch
    from splarn.core.run.outlook import Outlook
    from splarn.core.tuning.plan_file import Plan


class FlowView:
    """Shown while a run lasts, where someone is looking; it warns in any case, once a stage.

    `ceilings` are bytes a second that stages reach at most here, where that is known.
    """

    def __init__(
        self,
        console: Console | None,
        foresight: Foresight,
        ceilings: Mapping[str, float],
        warn: Any,
    ) -> None:
        self._foresight = foresight
        self._console, self._watching, self._plan = console, foresight.watching, foresight.plan
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

    def look(self, what: str, news: Mapping[str, Any]) -> None:
        """Warns where the run has left what was forecast; told of whatever happens."""
        if what == "change":
            self._say(changed(news, self._plan))
        if what != "part":
            return
        self._begin()
        with self._lock:
            # Stages tell of their parts from threads of their own.
            elapsed = self._watching.elapsed
            if elapsed - self._looked < LOOK_EVERY:
                return
            self._looked = elapsed
            expected = self._foresight.outlook()
            # The first parts tell little of the pace, so it must be more than likely.
            slow = expected.slow
            if not slow or slow in self._warned or expected.low <= self._high:
                return
            self._warned.add(slow)
        told = late(expected, self._plan)
        if not isinstance(self._foresight, Steering):
            told += _instead(expected, self._plan)
        elif self._foresight.too_dear(expected):
            money = show_money(self._foresight.money, self._plan.prices.currency)
            told += f" What would end it sooner costs more than the {money} that the plan allows."
        self._say(told)

    def _say(self, text: str) -> None:
        """A warning, above the view while there is one."""
        if self._live is None:
            self._warn(text)
        else:
            self._live.console.print(f"[yellow]{MARK}[/yellow] {escaped(text)}")

    @property
    def _high(self) -> float:
        return float(self._plan.forecast["seconds"]["high"])

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
        told = self._foresight.outlook()
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


def changed(told: Mapping[str, Any], plan: Plan) -> str:
    """What a run changed to, and what that is expected to do."""
    from splarn.core.tuning.configuration import LEVERS

    return (
        f"Loading goes on with {LEVERS[told['lever']].words} {told['value']} instead of "
        f"{told['before']}: all is expected to be done after "
        f"{show_duration(told['seconds'])}, and not after {show_duration(told['without'])}, for "
        f"{show_money(told['cost'], plan.prices.currency)}."
    )


def late(told: Outlook, plan: Plan) -> str:
    """Which stage makes a run longer than forecast, and whether it will do."""
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
    return f"{text}."


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
        "plan, and the same command goes on with that; --adapt changes it by itself."
    )


def _chance(chance: float) -> str:
    """A chance, which is never quite 0 or 1 by what is known."""
    if chance > 0.99:
        return "more than 99%"
    return f"{chance:.0%}" if chance >= 0.01 else "less than 1%"
