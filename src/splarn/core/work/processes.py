"""Worker processes: tasks in a given number of them, or in some of a pool of more."""

from __future__ import annotations

import multiprocessing
import os
import signal
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, wait
from itertools import islice
from multiprocessing.context import ForkServerContext, ForkServerProcess
from types import ModuleType
from typing import Any

from splarn.core.work.arrow import spare_pandas
from splarn.core.work.lanes import enter_worker, label_of, run_labelled
from splarn.core.work.pool import Futures, Result, Task, result_of
from splarn.core.work.progress import Lane, Progress

# Imported once in the process that workers are forked from.
_PRELOAD = ["splarn.core.load.loader", "splarn.core.check.checking"]


class Processes(Futures):
    """A given number of worker processes, kept for as long as the pool is open."""

    def __init__(self, workers: int, inherit: bool = False) -> None:
        context = _context(inherit)
        self._counter = context.Value("d", 0.0)
        self._next = context.Value("i", 0)
        # Of each worker: amount, rows, and the number of the task it is at, counted from 1.
        self._lanes = context.Array("d", 3 * workers, lock=False)
        self._labels: list[str] = []
        self._processes = ProcessPoolExecutor(
            workers,
            mp_context=context,
            initializer=_begin_worker,
            initargs=(self._counter, self._next, self._lanes),
        )
        super().__init__(workers, self._processes)

    def warm_up(self) -> None:
        """Starts every worker, so that no measurement pays for it."""
        wait([self._processes.submit(_linger) for _ in range(self.workers)])

    def close(self) -> None:
        """Ends the workers at once; a transaction that one has open is rolled back."""
        processes = list((self._processes._processes or {}).values())
        self._processes.shutdown(wait=False, cancel_futures=True)
        for process in processes:
            process.terminate()
        for process in processes:
            process.join(5)

    def _submit(
        self, run: Callable[[Task], Result], task: Task, watch: Progress | None
    ) -> Future[Result]:
        if watch is None or not label_of(task):
            return self._processes.submit(run, task)
        self._labels.append(label_of(task))
        return self._processes.submit(run_labelled, run, task, len(self._labels))

    def _stop(self, futures: Sequence[Future[Any]]) -> None:
        super()._stop(futures)
        self._labels = []
        for index in range(len(self._lanes)):
            self._lanes[index] = 0.0

    def _observe(self, watch: Progress | None) -> None:
        with self._counter.get_lock():
            amount, self._counter.value = self._counter.value, 0.0
        if watch is None:
            return
        if amount:
            watch.advance(amount)
        if self._labels:
            figures = list(self._lanes)
            labels = ["", *self._labels]
            watch.lanes(
                [
                    Lane(labels[int(at)] if int(at) < len(labels) else "", done, int(rows))
                    for done, rows, at in zip(
                        figures[::3], figures[1::3], figures[2::3], strict=True
                    )
                ]
            )


class Some(Futures):
    """A given number of the workers of a pool of more; the others rest."""

    def __init__(self, workers: int, whole: Processes) -> None:
        super().__init__(workers, whole._executor)
        self.whole = whole
        # Whatever is handed over is begun.
        self._at_once = workers

    def map(
        self,
        run: Callable[[Task], Result],
        tasks: Sequence[Task],
        watch: Progress | None = None,
    ) -> Iterator[Result]:
        """See Pool."""
        left = iter(tasks)
        begun = deque(self._submit(run, task, watch) for task in islice(left, self.workers))
        try:
            while begun:
                future = begun.popleft()
                self._await({future}, watch)
                begun.extend(self._submit(run, task, watch) for task in islice(left, 1))
                yield result_of(future)
        finally:
            self._stop(list(begun))

    def _submit(
        self, run: Callable[[Task], Result], task: Task, watch: Progress | None
    ) -> Future[Result]:
        return self.whole._submit(run, task, watch)

    def _observe(self, watch: Progress | None) -> None:
        self.whole._observe(watch)

    def _stop(self, futures: Sequence[Future[Any]]) -> None:
        self.whole._stop(futures)


def _context(inherit: bool) -> Any:
    """How worker processes come to be: copies of this one, or of one that has only imported.

    A copy of a process with several threads may wait for ever for a lock that one of them held,
    and on other systems than Linux their own libraries may have begun some.
    """
    alone = threading.active_count() == 1
    if inherit and alone and sys.platform == "linux":
        return multiprocessing.get_context("fork")
    context = _Unaware()
    # What this one has imported by now, its workers are about to need.
    here = [name for name in sys.modules if not name.startswith(("_", "pytest", "tests"))]
    context.set_forkserver_preload([*_PRELOAD, *here])
    return context


class _WithoutMain(ForkServerProcess):
    """A worker that does not run the main script again, which need not be made for that."""

    @staticmethod
    def _Popen(process_obj: Any) -> Any:  # noqa: N802
        main = sys.modules["__main__"]
        sys.modules["__main__"] = ModuleType("__main__")
        try:
            return ForkServerProcess._Popen(process_obj)
        finally:
            sys.modules["__main__"] = main


class _Unaware(ForkServerContext):
    """Starts workers from a server process; none of them needs what the main script holds."""

    Process = _WithoutMain


def _linger() -> None:
    time.sleep(0.02)


def _begin_worker(counter: Any, following: Any, lanes: Any) -> None:
    enter_worker(counter, following, lanes)
    spare_pandas()
    # The main process decides what an interrupt means.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)

    def end_with_parent() -> None:
        parent = multiprocessing.parent_process()
        if parent is not None:
            parent.join()
            os._exit(1)

    threading.Thread(target=end_with_parent, daemon=True).start()
