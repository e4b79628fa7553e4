"""Stages of a task: the core-seconds that each kind of work in it takes on this machine."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TypeVar

Item = TypeVar("Item")

# In the order in which data goes through them.
STAGES = ("read", "judge", "digest", "encode", "send", "other")


class Stages:
    """Core-seconds by stage, from all threads of one task; a stage within another counts alone."""

    def __init__(self) -> None:
        self.seconds: dict[str, float] = {}
        self._lock = threading.Lock()

    def add(self, name: str, seconds: float) -> None:
        """Adds to a stage."""
        with self._lock:
            self.seconds[name] = self.seconds.get(name, 0.0) + seconds

    def drawn(self, name: str, items: Iterator[Item]) -> Iterator[Item]:
        """The same items; what drawing them takes is a stage, in whatever thread that is."""
        while True:
            with self.entered(), stage(name):
                item = next(items, None)
            if item is None:
                return
            yield item

    @contextmanager
    def entered(self) -> Iterator[None]:
        """Lets `stage` in this thread add to these."""
        before = getattr(_local, "stages", None), getattr(_local, "running", None)
        if before[0] is self:
            yield
            return
        _local.stages, _local.running = self, None
        try:
            yield
        finally:
            _local.stages, _local.running = before


_local = threading.local()


@contextmanager
def stage(name: str) -> Iterator[None]:
    """Counts what is done within as a stage of this thread's task; nothing outside of tasks."""
    stages: Stages | None = getattr(_local, "stages", None)
    if stages is None:
        yield
        return
    outer: str | None = _local.running
    begun = time.thread_time()
    if outer is not None:
        stages.add(outer, begun - _local.since)
    _local.running, _local.since = name, begun
    try:
        yield
    finally:
        ended = time.thread_time()
        stages.add(name, ended - _local.since)
        _local.running, _local.since = outer, ended


def summed(several: Iterator[Mapping[str, float]]) -> dict[str, float]:
    """The stages of several tasks together, in the order of the work."""
    total: dict[str, float] = {}
    for one in several:
        for name, seconds in one.items():
            total[name] = total.get(name, 0.0) + seconds
    return {name: total[name] for name in STAGES if name in total}
