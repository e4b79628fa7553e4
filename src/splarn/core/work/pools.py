"""The pools of a command, by size, and how many workers are worth having."""

from __future__ import annotations

import os
from types import TracebackType
from typing import Protocol

from splarn.core.work.pool import Inline, Pool, Threads
from splarn.core.work.processes import Processes, Some


class Streamed(Protocol):
    """What a target says of streams into it or out of it; see Engine."""

    @property
    def in_process(self) -> bool: ...

    def preload(self) -> None: ...


class Pools:
    """Pools by size, opened when first asked for and closed together.

    Where workers `inherit`, they are copies of this process with all that it has imported, which
    costs no time; it must have opened no connection by then.
    """

    def __init__(self, inherit: bool = False) -> None:
        self._inherit = inherit
        self._open: dict[int, Processes] = {}
        self._threads: dict[tuple[str, int], Threads] = {}

    def threads(self, workers: int, stage: str = "") -> Pool:
        """A pool of so many threads of this process; one needs no pool.

        Stages that work at the same time have pools of their own.
        """
        if workers <= 1:
            return Inline()
        return self._threads.setdefault((stage, workers), Threads(workers))

    def of(self, workers: int) -> Pool:
        """A warmed pool of so many workers, or some of one that has more; one needs no process."""
        if workers <= 1:
            return Inline()
        most = max(self._open, default=0)
        if workers < most:
            return Some(workers, self._open[most])
        if workers not in self._open:
            pool = Processes(workers, self._inherit)
            self._open[workers] = pool
            pool.warm_up()
        return self._open[workers]

    def streams(self, count: int, engine: Streamed) -> Pool:
        """So many load streams: threads of this process where the engine wants that."""
        if engine.in_process:
            return self.threads(count, "load")
        # Once, rather than by each of them.
        engine.preload()
        return self.of(count)

    def close(self) -> None:
        """Ends all workers."""
        for processes in self._open.values():
            processes.close()
        for threads in self._threads.values():
            threads.close()
        self._open.clear()
        self._threads.clear()

    def __enter__(self) -> Pools:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


# Below this, starting processes takes longer than the work.
WORTH_PROCESSES = 16 << 20


def workers_for(size: int) -> int:
    """Workers for so many bytes: one a core, or only one where there is little to do."""
    return usable_cores() if size >= WORTH_PROCESSES else 1


def usable_cores() -> int:
    """Cores that this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
