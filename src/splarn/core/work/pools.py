"""The pools of a command, by size, and how many workers are worth having."""

from __future__ import annotations

import os
from collections.abc import Mapping
from types import TracebackType
from typing import Protocol

from splarn.core.work.machine import describe_machine
from splarn.core.work.pool import Inline, Pool, Threads
from splarn.core.work.processes import Processes, Some


class Streamed(Protocol):
    """What a target says of streams into it or out of it; see Engine."""

    @property
    def in_process(self) -> bool: ...

    def preload(self) -> None: ...


class Away(Protocol):
    """Workers on other machines, as one has joined them."""

    @property
    def slots(self) -> int:
        """How many calls may be at work at once."""

    def fixed(self) -> Mapping[str, float | int | str]:
        """What it costs whatever is done on it."""

    @property
    def described(self) -> str:
        """What tells it from other clusters and machines, of which times are other times."""

    @property
    def machines(self) -> int:
        """How many machines they are on."""

    def capacity(self, machines: int) -> int:
        """How many may be at work at once on so many of the machines."""

    def pool(self, workers: int | None, machines: int | None = None) -> Pool:
        """So many of them, all if None, on so many of the machines."""

    def used(self) -> Mapping[str, Mapping[str, float]]:
        """What workers on other machines have used so far, by their names; see Gauge."""

    def close(self) -> None:
        """Ends what is at work, and leaves."""


class Pools:
    """Pools by size, opened when first asked for and closed together.

    Where workers `inherit`, they are copies of this process with all that it has imported, which
    costs no time; it must have opened no connection by then. With workers that are `away` all work
    is theirs.
    """

    def __init__(self, inherit: bool = False, away: Away | None = None) -> None:
        self.away = away
        self._inherit = inherit
        self._machines: int | None = None
        self._far: dict[tuple[str, int, int | None], Pool] = {}
        self._open: dict[int, Processes] = {}
        self._threads: dict[tuple[str, int], Threads] = {}

    def threads(self, workers: int, stage: str = "") -> Pool:
        """A pool of so many threads of this process; one needs no pool.

        Stages that work at the same time have pools of their own.
        """
        if self.away is not None:
            return self._from_afar(self.away, workers, stage)
        if workers <= 1:
            return Inline()
        return self._threads.setdefault((stage, workers), Threads(workers))

    def of(self, workers: int) -> Pool:
        """A warmed pool of so many workers, or some of one that has more; one needs no process."""
        if self.away is not None:
            return self._from_afar(self.away, workers, "")
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
        if self.away is not None:
            return self._from_afar(self.away, count, "load")
        if engine.in_process:
            return self.threads(count, "load")
        # Once, rather than by each of them.
        engine.preload()
        return self.of(count)

    @property
    def described(self) -> str:
        """The machine, or the cluster, that work is done on."""
        return describe_machine() if self.away is None else self.away.described

    def senders(self, number: int) -> Pool:
        """The pool of one of several that send parts: one worker of its own."""
        return self.threads(1, f"ship {number}")

    def used(self) -> Mapping[str, Mapping[str, float]]:
        """What others than this machine's processes have used so far; see Gauge."""
        return {} if self.away is None else self.away.used()

    def usual(self, size: int) -> int:
        """How many workers are worth having for so many bytes where nobody says how many."""
        return workers_for(size) if self.away is None else self.away.slots

    def on(self, machines: int) -> Pools:
        """The same on so many of a cluster's machines; closed with these."""
        if self.away is None:
            return self
        fewer = Pools(away=self.away)
        fewer._machines, fewer._far = machines, self._far
        return fewer

    @property
    def machines(self) -> int:
        """Machines that work is done on."""
        return 1 if self.away is None else self.away.machines

    def _from_afar(self, away: Away, workers: int, stage: str) -> Pool:
        key = stage, workers, self._machines
        if key not in self._far:
            self._far[key] = away.pool(workers, self._machines)
        return self._far[key]

    def close(self) -> None:
        """Ends all workers."""
        if self.away is not None:
            self.away.close()
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
