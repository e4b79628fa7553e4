"""The cluster as pools: what commands see of it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future
from pathlib import Path
from typing import Any

from splarn.core.cluster.calls import Placed
from splarn.core.cluster.crew import Crew
from splarn.core.cluster.dispatch import Dispatcher
from splarn.core.cluster.joining import join
from splarn.core.cluster.reaching import Beacons
from splarn.core.errors import RequestError
from splarn.core.source.places import Place
from splarn.core.target.session import Engine, OpenEngine
from splarn.core.units import plural, show_size
from splarn.core.work.lanes import label_of
from splarn.core.work.pool import Futures, Result, Task
from splarn.core.work.progress import Lane, Progress
from splarn.version import __version__

# Calls without work by which it is measured what handing one over takes.
HANDED = 11


class Cluster:
    """A session with a cluster, from when it is joined until it is closed; see Away."""

    def __init__(self, where: str, per_machine: int | None = None) -> None:
        """Raises RequestError for what is no cluster or differs, OutsideError for none."""
        begun = time.perf_counter()
        self._joined = join(where)
        self._beacons = Beacons()
        try:
            self.crew = Crew(self._joined, per_machine)
            self.crew.muster()
        except BaseException:
            self._joined.close()
            raise
        self._dispatcher: Dispatcher | None = None
        self.joined = time.perf_counter() - begun

    @property
    def place(self) -> str:
        """How it is called."""
        return self._joined.place

    @property
    def slots(self) -> int:
        """See Away."""
        return max(self.crew.threads, 1)

    @property
    def described(self) -> str:
        """See Away."""
        kinds: dict[str, int] = {}
        for worker in self.crew.fit.values():
            kind = f"{plural(worker.threads, 'thread')}, {show_size(worker.memory)}"
            kinds[kind] = kinds.get(kind, 0) + 1
        every = [f"{plural(many, 'worker')} of {kind}" for kind, many in sorted(kinds.items())]
        told = " and ".join(every)
        return f"{plural(self.crew.machines, 'machine')}: {told}, Splarn {__version__}"

    def used(self) -> Mapping[str, Mapping[str, float]]:
        """See Away. Workers that were started here are among this machine's processes anyway."""
        return {} if self._joined.started_here else self.crew.used()

    def reach(
        self,
        reading: Sequence[Place] = (),
        writing: Sequence[Path | None] = (),
        into: OpenEngine | None = None,
    ) -> None:
        """See Away."""
        reach = self.crew.reach
        if reading:
            reach = reach.reading(reading)
        for folder in writing:
            if folder is not None:
                reach = reach.writing(folder, self._beacons)
        if into is not None:
            engine = into()
            for folder in engine.folders:
                reach = reach.writing(folder, self._beacons)
            # An engine that reads parts itself by a description here is spoken to from here alone.
            if not engine.is_file:
                # What does not answer here either is said as anywhere else.
                engine.connect().close()
                reach = reach.into(into)
        self.crew.reach = reach
        self.crew.renew()

    @property
    def machines(self) -> int:
        """See Away."""
        return self.crew.machines

    def capacity(self, machines: int) -> int:
        """See Away."""
        return self.crew.capacity(machines)

    def pool(self, workers: int | None, machines: int | None = None) -> Pooled:
        """See Away."""
        if self._dispatcher is None:
            self._dispatcher = Dispatcher(self.crew)
        most = self.slots if workers is None else workers
        return Pooled(self._dispatcher, most, machines)

    def told(self) -> str:
        """What it is, in words."""
        crew = self.crew
        machines = "" if crew.machines < 2 else f" on {plural(crew.machines, 'machine')}"
        return f"{plural(len(crew.fit), 'worker')}{machines} of {self.place}"

    def fixed(self) -> dict[str, float | int | str]:
        """What a cluster costs whatever is done on it: seconds to join it, seconds until a worker
        that has ended a part has another; with its size.
        """
        one, took = self.pool(1), []
        for _ in range(HANDED):
            begun = time.perf_counter()
            list(one.map(label_of, [0]))
            took.append(time.perf_counter() - begun)
        return {
            "machines": self.machines,
            "slots": self.slots,
            "described": self.described,
            "join_seconds": self.joined,
            "part_seconds": sorted(took)[HANDED // 2],
        }

    def notes(self) -> list[str]:
        """What should be known of it, in sentences."""
        crew = self.crew
        said = []
        if crew.unfit:
            many = len(crew.unfit)
            said.append(
                f"{many} of {many + len(crew.fit)} workers are left out: {next(iter(crew.unfit))} "
                f"{next(iter(crew.unfit.values()))}."
            )
        return said

    def close(self) -> None:
        """Ends what is at work and leaves the cluster."""
        try:
            if self._dispatcher is not None:
                self._dispatcher.close()
            self.crew.leave()
        finally:
            self._beacons.remove()


def refuse_files(engine: Engine) -> None:
    """Raises RequestError for a target that is a file, which no workers elsewhere can share."""
    if engine.is_file and not engine.reads_parts:
        raise RequestError(
            f"{engine.place} is a file that one process writes, which the workers of a cluster "
            "cannot share: name a server or a lake, or leave --cluster out."
        )


class Pooled(Futures):
    """So many calls at once on a cluster; see Pool."""

    apart = True

    def __init__(self, dispatcher: Dispatcher, workers: int, machines: int | None = None) -> None:
        super().__init__(workers, None)
        self._dispatcher = dispatcher
        self._limit = dispatcher.limit(workers, machines)
        # Enough that short ones can be handed over many together.
        self._at_once = 4 * workers + 200
        # Calls that are not over, or of which no watcher was told that they are.
        self._placed: dict[Future[Any], Placed] = {}
        # What each worker has done in this stage of what has a label: amount and rows.
        self._done: dict[str, tuple[float, int]] = {}
        # Several threads may wait for calls of one pool.
        self._lock = threading.Lock()

    def _submit(
        self, run: Callable[[Task], Result], task: Task, watch: Progress | None
    ) -> Future[Result]:
        call = self._dispatcher.submit(run, task, label_of(task), self._limit)
        with self._lock:
            self._placed[call.future] = call
        return call.future

    def _observe(self, watch: Progress | None) -> None:
        with self._lock:
            placed = list(self._placed.items())
            for future, _ in placed:
                if future.done():
                    del self._placed[future]
        labels: dict[str, str] = {}
        for future, call in placed:
            more, rows = call.amount - call.told, call.rows - call.told_rows
            if more > 0:
                call.told, call.told_rows = call.amount, call.rows
                if watch is not None:
                    watch.advance(more)
            if call.label and call.at:
                amount, before = self._done.get(call.at, (0.0, 0))
                self._done[call.at] = amount + max(more, 0.0), before + max(rows, 0)
                if call.handed is not None and not future.done():
                    labels[call.at] = call.label
        if watch is not None and self._done:
            watch.lanes(
                [Lane(labels.get(at, ""), *done) for at, done in sorted(self._done.items())]
            )

    def _stop(self, futures: Sequence[Future[Any]]) -> None:
        with self._lock:
            calls = [self._placed[one] for one in futures if one in self._placed]
        left = [call for call in calls if not call.future.done()]
        if left:
            # What is still at work would write into what the caller is about to clean up.
            self._dispatcher.stop(left)
        self._done.clear()
        with self._lock:
            for future in [one for one in self._placed if one.done()]:
                del self._placed[future]
