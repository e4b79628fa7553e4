"""Millrace's compute: its size, its own clock, and the order in which its slots do the work."""

from __future__ import annotations

import copy
import heapq
import itertools
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.errors import RequestError
from splarn.standin.millrace.physics import EnginePhysics, units_of


@dataclass(frozen=True)
class Work:
    """One part as the clock sees it: seconds before it gets going, and of work when alone."""

    overhead: float
    seconds: float


@dataclass(frozen=True)
class Times:
    """When a part was handed in, was begun and ended, in seconds of the clock."""

    waiting: float
    begun: float
    ended: float


class SimulatedCompute:
    """A compute that can be resized. Nothing moves its clock but work, waiting and `advance`."""

    def __init__(self, physics: EnginePhysics) -> None:
        self.physics = physics
        self.tier = physics.tier
        self.now = 0.0
        # Loads so far: each has luck of its own.
        self.loads = 0
        self.running = False
        self.since = 0.0
        self._last_work = 0.0
        self._free = [0.0] * physics.slots(self.tier)

    @property
    def slots(self) -> int:
        """Parts it works on at once."""
        return self.physics.slots(self.tier)

    def advance(self, seconds: float) -> None:
        """Lets time go by in which nothing is asked of it."""
        self.now += seconds
        self._rest()

    def resize(self, tier: str) -> None:
        """Gives it another size, for which work under way is waited for.

        Raises RequestError for a size it does not have.
        """
        if tier not in self.physics.tiers:
            raise RequestError(
                f"The tier {tier!r} is none of Millrace's: use {', '.join(self.physics.tiers)}."
            )
        if tier == self.tier:
            return
        self._rest()
        self.now = max(self.now, *self._free) + self.physics.resize
        self.tier, self.since = tier, self.now
        self._free = [self.now] * self.slots
        self._last_work = self.now

    def wake(self) -> float:
        """When work that comes now may begin; a compute that stopped takes its time to start."""
        self._rest()
        begin = self.now
        if not self.running:
            begin += self.physics.start_up
            self.running = True
            self._free = [max(free, begin) for free in self._free]
        return begin

    def scan(self, rows: int) -> float:
        """Reads so many rows; the seconds it took. A compute at rest wakes for it."""
        before = self.now
        if self.physics.scan:
            begin = self.wake()
            self.now = begin + rows / (self.physics.scan * 1e6 * units_of(self.tier))
            self._last_work = self.now
        return self.now - before

    def schedule(
        self,
        work: Sequence[Work],
        streams: int,
        admission: float,
        handed_in: Sequence[float] | None = None,
    ) -> list[Times]:
        """Does the parts in order, at most `streams` at once; slots may be busy with others.

        `handed_in` are moments before which parts were not there, all there now if None. The clock
        does not move: whoever waits for the end moves it with `reach`.
        """
        since = handed_in or [self.now] * len(work)
        if handed_in and handed_in[0] < self.now:
            # It was woken when the first one came.
            later, self.now = self.now, handed_in[0]
            begin = self.wake() + admission
            self.now = later
        else:
            begin = self.wake() + admission
        heapq.heapify(self._free)
        lanes = [heapq.heappop(self._free) for _ in range(min(streams, len(self._free)))]
        lanes = [max(lane, begin) for lane in lanes]
        started, finished, lanes = _carried_out(work, since, lanes, begin, self.physics)
        for lane in lanes:
            heapq.heappush(self._free, lane)
        return [Times(*times) for times in zip(since, started, finished, strict=True)]

    def foreseen(
        self, work: Sequence[Work], streams: int, admission: float, handed_in: Sequence[float]
    ) -> list[Times]:
        """What `schedule` would say, while nothing is done."""
        other = copy.copy(self)
        other._free = list(self._free)
        return other.schedule(work, streams, admission, handed_in)

    def reach(self, moment: float) -> None:
        """Moves the clock to a moment when work ended, unless it is past it."""
        self.now = max(self.now, moment)
        self._last_work = max(self._last_work, moment)

    def _rest(self) -> None:
        idle = self.now - max(self._last_work, *self._free)
        if self.running and self.physics.idle_after and idle > self.physics.idle_after:
            self.running = False


def _carried_out(
    work: Sequence[Work],
    since: Sequence[float],
    lanes: list[float],
    begin: float,
    physics: EnginePhysics,
) -> tuple[list[float], list[float], list[float]]:
    """When each part starts and ends, and when the lanes are free after that.

    `progress` is the work that a part at work since the beginning would have got done: all parts
    at work advance alike, so a part ends when progress reaches what it was at its start plus its
    work.
    """
    started, finished = [0.0] * len(work), [0.0] * len(work)
    waiting = deque(range(len(work)))
    heapq.heapify(lanes)
    opening: list[tuple[float, int]] = []
    working: list[tuple[float, int]] = []
    time, progress = begin, 0.0
    while waiting or opening or working:
        while waiting and lanes and max(lanes[0], since[waiting[0]]) <= time:
            heapq.heappop(lanes)
            part = waiting.popleft()
            started[part] = time
            heapq.heappush(opening, (time + work[part].overhead, part))
        speed, edge = _speed(len(opening) + len(working), time, physics)
        moments = [edge] if working else []
        moments += [max(lanes[0], since[waiting[0]])] if waiting and lanes else []
        moments += [opening[0][0]] if opening else []
        done = time + (working[0][0] - progress) / speed if working else float("inf")
        moment = max(min(*moments, done, float("inf")), time)
        if working:
            progress = working[0][0] if done <= moment else progress + (moment - time) * speed
        time = moment
        while opening and opening[0][0] <= time:
            part = heapq.heappop(opening)[1]
            heapq.heappush(working, (progress + work[part].seconds, part))
        while working and working[0][0] <= progress:
            part = heapq.heappop(working)[1]
            finished[part] = time
            heapq.heappush(lanes, time)
    return started, finished, lanes


def _speed(parts: int, time: float, physics: EnginePhysics) -> tuple[float, float]:
    """The speed of each of so many parts, 1 for one alone, and until when it stays like that."""
    more = max(parts - 1, 0)
    slow = 1 + physics.contention * more + physics.coherency * parts * more
    if not physics.readers:
        return 1 / slow, float("inf")
    period, busy = physics.readers_period, physics.readers_busy * physics.readers_period
    for edge in itertools.count(1):
        first = (time // period + edge - 1) * period
        # Moments that arithmetic puts a hair before an edge belong behind it.
        if time < first + busy - 1e-9:
            return (1 - physics.readers) / slow, first + busy
        if time < first + period - 1e-9:
            return 1 / slow, first + period
    raise AssertionError("not reached")
