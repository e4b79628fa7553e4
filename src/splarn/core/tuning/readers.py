"""Sessions that read while a trial loads, to see how much the two slow one another."""

from __future__ import annotations

import threading
import time
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from types import TracebackType
from typing import TYPE_CHECKING, Any

import numpy as np

from splarn.core.errors import RequestError, SplarnError

if TYPE_CHECKING:
    from splarn.core.target.session import OpenEngine

# How statements that read begin. What a WITH writes all the same is taken back.
READING = ("SELECT", "WITH", "VALUES")
# How long a session that was refused waits before it asks again.
PAUSE = 0.05


def require_reading(statement: str) -> None:
    """Raises RequestError for a statement that may do more than read."""
    first = statement.lstrip(" (\n\t").partition(" ")[0].upper()
    if first not in READING:
        raise RequestError(
            f"{statement!r} may do more than read: begin it with {', '.join(READING)}."
        )


@dataclass(frozen=True)
class Readings:
    """What sessions that read came to: how often, how many were refused, and seconds of one.

    `high` is what nine in ten took at most.
    """

    sessions: int = 0
    readings: int = 0
    refused: int = 0
    median: float = 0.0
    high: float = 0.0

    def as_json(self) -> dict[str, Any]:
        """The figures by name."""
        return asdict(self)


class Readers:
    """So many sessions that repeat the statements from when this is entered until it is left.

    `{table}` in a statement stands for the table that is being loaded. What a target refuses, since
    the table is still being made or is locked, is counted and asked again.
    """

    def __init__(
        self, open_engine: OpenEngine, statements: Sequence[str], sessions: int, table: str
    ) -> None:
        self.open_engine, self.sessions = open_engine, sessions
        self.statements = [one.replace("{table}", table) for one in statements]
        self.seconds: list[float] = []
        self.refused = 0
        self._left = threading.Event()
        self._threads: list[threading.Thread] = []

    def __enter__(self) -> Readers:
        self._threads = [
            threading.Thread(target=self._read, args=(number,), daemon=True)
            for number in range(self.sessions)
        ]
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._left.set()
        for thread in self._threads:
            thread.join()

    @property
    def told(self) -> Readings:
        """What they came to."""
        if not self.seconds:
            return Readings(self.sessions, 0, self.refused)
        median, high = np.quantile(self.seconds, [0.5, 0.9], method="median_unbiased").tolist()
        return Readings(self.sessions, len(self.seconds), self.refused, median, high)

    def _read(self, number: int) -> None:
        try:
            session = self.open_engine().connect()
        except SplarnError:
            self.refused += 1
            return
        try:
            while not self._left.is_set():
                for place in range(len(self.statements)):
                    # They do not all ask the same at the same time.
                    statement = self.statements[(place + number) % len(self.statements)]
                    begun = time.perf_counter()
                    try:
                        session.read(statement)
                        self.seconds.append(time.perf_counter() - begun)
                    except SplarnError:
                        self.refused += 1
                        session.rollback()
                        self._left.wait(PAUSE)
        finally:
            session.close()
