"""A bounded queue between two stages that work at the same time."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from typing import Generic, TypeVar

from splarn.core.work.interrupts import raise_lost

Item = TypeVar("Item")
# How long anyone waits before looking whether an interrupt was lost.
PATIENCE = 0.2


class StoppedError(Exception):
    """The other side has given up, so there is nobody to work for."""


class Feed(Generic[Item]):
    """Items from makers to takers, at most `room` of them waiting, so that neither runs away.

    Makers wait while it is full, takers while it is empty; each is woken at once. `most` is how
    many have waited at the same time.
    """

    def __init__(self, room: int) -> None:
        self.room = room
        self.most = 0
        self._items: deque[Item] = deque()
        self._change = threading.Condition()
        self._closed = self._stopped = False
        self._error: BaseException | None = None
        self._listeners: list[Callable[[], object]] = []

    def put(self, item: Item) -> None:
        """Hands an item over, waiting for room. Raises StoppedError once takers have stopped."""
        with self._change:
            while len(self._items) >= self.room and not self._stopped:
                self._change.wait()
            if self._stopped:
                raise StoppedError
            self._items.append(item)
            self.most = max(self.most, len(self._items))
        self._tell()

    def close(self, error: BaseException | None = None) -> None:
        """Nothing more will come; takers are told the error that is why, if there was one."""
        with self._change:
            self._closed = True
            self._error = self._error or error
        self._tell()

    def stop(self) -> None:
        """Nothing more is taken; makers are told when they next hand something over."""
        with self._change:
            self._stopped = True
        self._tell()

    def take(self) -> Item | None:
        """The next item, None where there is none at this moment.

        Raises the error that making ended with, at once: what is left is not worth the work.
        """
        with self._change:
            if self._error is not None:
                raise self._error
            if not self._items:
                return None
            item = self._items.popleft()
        self._tell()
        return item

    def await_next(self) -> Item | None:
        """The next item as soon as there is one; None when no more will come.

        Raises as `take` does.
        """
        while True:
            item = self.take()
            if item is not None:
                return item
            with self._change:
                if self._stopped or (self._closed and not self._items and self._error is None):
                    return None
                if not self._items and self._error is None:
                    self._change.wait(PATIENCE)
            raise_lost()

    @property
    def over(self) -> bool:
        """Whether nothing is left and nothing more will come."""
        with self._change:
            return self._stopped or (self._closed and not self._items)

    @property
    def closed(self) -> bool:
        """Whether nothing more will come; some may be left."""
        with self._change:
            return self._closed

    @property
    def stopped(self) -> bool:
        """Whether nothing is taken any more."""
        return self._stopped

    @property
    def waiting(self) -> int:
        """How many items wait at this moment."""
        with self._change:
            return len(self._items)

    def listen(self, heard: Callable[[], object]) -> None:
        """Has a function called at every change, by whoever makes it; it must not wait."""
        self._listeners.append(heard)

    def _tell(self) -> None:
        with self._change:
            self._change.notify_all()
        for heard in self._listeners:
            heard()
