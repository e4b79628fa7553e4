"""How long a stage was at work: the time in which at least one of its workers was."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager


class Activity:
    """Counts workers at work. `seconds` is for how long there was one, until now."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._working = 0
        self._since = self._before = 0.0

    def begin(self) -> None:
        """One more is at work."""
        with self._lock:
            if not self._working:
                self._since = time.perf_counter()
            self._working += 1

    def end(self) -> None:
        """One fewer is at work."""
        with self._lock:
            self._working -= 1
            if not self._working:
                self._before += time.perf_counter() - self._since

    @contextmanager
    def working(self) -> Iterator[None]:
        """One is at work while this lasts."""
        self.begin()
        try:
            yield
        finally:
            self.end()

    @contextmanager
    def resting(self) -> Iterator[None]:
        """One that is at work waits while this lasts."""
        self.end()
        try:
            yield
        finally:
            self.begin()

    @property
    def seconds(self) -> float:
        """For how long there was work."""
        with self._lock:
            now = time.perf_counter() - self._since if self._working else 0.0
            return self._before + now
