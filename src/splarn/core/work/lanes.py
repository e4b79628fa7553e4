"""Lanes: how a running task says what it has done, wherever it runs."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any, TypeVar

from splarn.core.work.interrupts import raise_lost
from splarn.core.work.progress import Lane, Progress

Task = TypeVar("Task")
Result = TypeVar("Result")


def label_of(task: Any) -> str:
    """What a watcher is told of a task; tasks without a label are not told apart."""
    return str(getattr(task, "label", ""))


class ThreadLane:
    """What one thread has done for a watcher."""

    def __init__(self, watch: Progress | None, others: list[ThreadLane] | None = None) -> None:
        self.watch = watch
        self.thread = threading.get_ident()
        self.label = ""
        self.amount = 0.0
        self.rows = 0
        self.others = [self] if others is None else others

    def report(self, amount: float, rows: int) -> None:
        """Adds to the lane and tells the watcher."""
        self.amount += amount
        self.rows += rows
        if self.watch is not None:
            self.watch.advance(amount)
            if self.label:
                self.watch.lanes([Lane(one.label, one.amount, one.rows) for one in self.others])


def report(amount: float, rows: int = 0) -> None:
    """What a running task calls to say that so much more of it is done."""
    if _worker_counter is not None:
        with _worker_counter.get_lock():
            _worker_counter.value += amount
        _worker_lane[0] += amount
        _worker_lane[1] += rows
        return
    lane = current_lane()
    if lane is not None:
        lane.report(amount, rows)
    raise_lost()


def tell(text: str) -> None:
    """What a running task calls when it waits for long, to say so; heard in this process only."""
    lane = current_lane()
    if lane is not None and lane.watch is not None:
        lane.watch.tell(text)


def run_labelled(run: Callable[[Task], Result], task: Task, number: int) -> Result:
    """Runs a task in this worker, telling the main process which one it is at."""
    _worker_lane[2] = number
    try:
        return run(task)
    finally:
        _worker_lane[2] = 0


class _SharedLane:
    """This worker's three numbers in the memory that it shares with the main process."""

    def __init__(self, numbers: Any, worker: int) -> None:
        self.numbers = numbers
        self.first = 3 * worker

    def __getitem__(self, index: int) -> float:
        return float(self.numbers[self.first + index])

    def __setitem__(self, index: int, value: float) -> None:
        self.numbers[self.first + index] = value


_worker_counter: Any = None
_worker_lane: Any = None
# The lane of the task that this thread runs.
_local = threading.local()


def enter_worker(counter: Any, following: Any, lanes: Any) -> None:
    """Gives a new worker process its place in the memory that it shares with the main one."""
    global _worker_counter, _worker_lane
    _worker_counter = counter
    with following.get_lock():
        worker = following.value % (len(lanes) // 3)
        following.value += 1
    _worker_lane = _SharedLane(lanes, worker)


def run_in(lane: ThreadLane, run: Callable[[Task], Result], task: Task) -> Result:
    """Runs a task in this thread, its reports going to the lane."""
    before = current_lane()
    _local.lane = lane
    lane.label = label_of(task)
    try:
        return run(task)
    finally:
        lane.label = ""
        _local.lane = before


def current_lane() -> ThreadLane | None:
    """The lane of the task that this thread runs."""
    return getattr(_local, "lane", None)
