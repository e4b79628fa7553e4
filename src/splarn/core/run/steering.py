"""A run under way: how it will end, and what it may change to end in time."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

from splarn.core.flow.watching import Watching
from splarn.core.load.arriving import Course
from splarn.core.run.outlook import SEEN, Outlook, Since, outlook
from splarn.core.tuning.plan_file import Plan

# How often it is looked whether the run leaves its forecast, in seconds.
LOOK_EVERY = 0.1
# What is wanted of a chance for a deadline to be called likely.
LIKELY = 0.5
# What is left of loading must become less than this share of it for a change to be worth it.
WORTH = 0.9


@dataclass(frozen=True)
class Change:
    """What a run changed to, `after` so many seconds, with such a `share` of loading done.

    `seconds` and `cost` are what all of it was then expected to take, `without` the seconds without
    the change.
    """

    lever: str
    before: Any
    value: Any
    after: float
    share: float
    seconds: float
    without: float
    cost: float

    def as_json(self) -> dict[str, Any]:
        """By name."""
        return asdict(self)


class Foresight:
    """How a run will end, also after something of it was changed."""

    def __init__(self, plan: Plan, watching: Watching) -> None:
        self.plan, self.watching = plan, watching
        self._since: dict[str, Since] = {}

    def outlook(self) -> Outlook:
        """By all that is known at this moment."""
        watching, limit = self.watching, self.plan.limits.deadline
        return outlook(self.plan.forecast, watching.stands(), watching.elapsed, limit, self._since)


class Steering(Foresight):
    """Changes load streams and tier where loading keeps a run from ending as it should.

    What it may change to are the plan's alternatives. It keeps to the plan's budget; without one,
    to the most that the plan's forecast expected. Of those that end in time the cheapest is taken,
    else the one that ends first.
    """

    def __init__(self, plan: Plan, watching: Watching, tiers: bool) -> None:
        """`tiers` says that the target's compute has sizes, which a load can change."""
        super().__init__(plan, watching)
        own = plan.configuration
        self._others = [one for one in plan.alternatives if tiers or one["lever"] != "tier"]
        streams = [one["value"] for one in self._others if one["lever"] == "load_streams"]
        self.course = Course(own.load_streams, own.tier, max([own.load_streams, *streams]))
        self.changes: list[Change] = []
        self._lock = threading.Lock()
        self._looked = 0.0
        self._turns = 0
        # By how much each lever that was changed makes loading shorter, and its time dearer.
        self._factors: dict[str, tuple[float, float]] = {}
        watching.steer = self.look

    def look(self) -> Change | None:
        """Changes what is worth it. Told of whatever happens, by any thread."""
        with self._lock:
            elapsed = self.watching.elapsed
            if elapsed - self._looked < LOOK_EVERY:
                return None
            self._looked = elapsed
            if not self._followed():
                return None
            change = self._wanted(self.outlook(), elapsed)
            if change is None:
                return None
            self._make(change)
        self.watching.heard("change", change.as_json())
        return change

    def _followed(self) -> bool:
        """Whether loading goes on as was last decided; it is judged from then on."""
        if self.course.turns is None or self._turns == len(self.changes):
            return True
        if self.course.turns < len(self.changes):
            return False
        self._turns = self.course.turns
        self._since["load"] = replace(self._since["load"], stand=self.watching.stands()["load"])
        return True

    @property
    def money(self) -> float:
        """The most that a run may cost once something of it is changed."""
        limits, forecast = self.plan.limits, self.plan.forecast
        return limits.budget or float(forecast["cost"]["high"])

    def too_dear(self, told: Outlook) -> bool:
        """Whether all that would end it sooner costs more than it may."""
        found = self._sooner(told, self.watching.elapsed)
        return bool(found) and all(one.cost > self.money for one in found)

    def _wanted(self, told: Outlook, elapsed: float) -> Change | None:
        limits, high = self.plan.limits, float(self.plan.forecast["seconds"]["high"])
        if told.binding != "load" or not self._seen():
            return None
        if told.low <= high and (told.chance is None or told.chance >= LIKELY):
            return None
        found = [one for one in self._sooner(told, elapsed) if one.cost <= self.money]
        in_time = [one for one in found if one.seconds <= (limits.deadline or high)]
        if in_time:
            return min(in_time, key=lambda one: one.cost)
        return min(found, key=lambda one: one.seconds, default=None)

    def _sooner(self, told: Outlook, elapsed: float) -> list[Change]:
        """All that would end the run sooner, whatever it costs."""
        found = []
        for one in self._others:
            shorter, dearer = self._by(one)
            if shorter > WORTH or told.binding != "load":
                continue
            left = self._left(told, shorter) + self._sizing(one)
            if left > WORTH * told.left:
                continue
            found.append(Change(
                one["lever"], getattr(self.course, _OF_COURSE[one["lever"]]), one["value"],
                elapsed, self.watching.stage("load").share, elapsed + left, told.total,
                self._rate() * (elapsed + left * dearer),
            ))  # fmt: skip
        return found

    def _seen(self) -> bool:
        """Whether loading as it is now has been seen for long enough to be judged."""
        begun = self._since["load"].stand.share if "load" in self._since else 0.0
        return self.watching.stage("load").share - begun >= SEEN

    def _by(self, one: Mapping[str, Any]) -> tuple[float, float]:
        """By what an alternative makes loading shorter and a second dearer than they are now."""
        forecast = self.plan.forecast
        load = float(forecast["phases"].get("load", 0.0))
        seconds, cost = float(forecast["seconds"]["median"]), float(forecast["cost"]["median"])
        shorter, dearer = self._factors.get(one["lever"], (1.0, 1.0))
        by_load = float(one["load"]) / max(load, 1e-9)
        by_cost = 1.0
        if cost > 0 and seconds > 0 and float(one["seconds"]) > 0:
            by_cost = float(one["cost"]) / float(one["seconds"]) / (cost / seconds)
        return by_load / shorter, by_cost / dearer

    def _rate(self) -> float:
        """What a second costs as the run goes now."""
        forecast = self.plan.forecast
        rate = float(forecast["cost"]["median"]) / max(float(forecast["seconds"]["median"]), 1e-9)
        for _, dearer in self._factors.values():
            rate *= dearer
        return rate

    def _left(self, told: Outlook, shorter: float) -> float:
        """What would be left of the run: another stage may take longer than the rest of loading."""
        stages, load = dict(told.remaining), self.watching.stage("load")
        now = max(stages.values())
        free = max(load.total - max(self.course.settled, load.done), 0.0)
        free /= max(load.total - load.done, 1.0)
        stages["load"] *= 1 - free * (1 - shorter)
        return told.left - now + max(stages.values())

    def _sizing(self, one: Mapping[str, Any]) -> float:
        """Seconds of changing the compute that the forecast of what goes on now has none of."""
        if one["lever"] != "tier":
            return 0.0
        planned = 0.0 if self.changes else float(self.plan.forecast["phases"].get("size", 0.0))
        return max(float(one.get("size", 0.0)) - planned, 0.0)

    def _make(self, change: Change) -> None:
        shorter, dearer = self._by(_alternative(self.plan, change))
        before = self._factors.get(change.lever, (1.0, 1.0))
        self._factors[change.lever] = (before[0] * shorter, before[1] * dearer)
        stand = self.watching.stands()["load"]
        left = self.outlook().remaining["load"]
        whole = left / max(1 - stand.share, 1e-9) * shorter
        self._since["load"] = Since(stand, whole)
        self.changes.append(change)
        setattr(self.course, _OF_COURSE[change.lever], change.value)


_OF_COURSE = {"load_streams": "streams", "tier": "tier"}


def _alternative(plan: Plan, change: Change) -> Mapping[str, Any]:
    return next(
        one
        for one in plan.alternatives
        if (one["lever"], one["value"]) == (change.lever, change.value)
    )
