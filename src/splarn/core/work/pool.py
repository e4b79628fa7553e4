"""Worker processes: the same task functions run here in one process or many.

A task is a picklable frozen dataclass and its function a module-level one, so that another pool,
of other machines, can take this one's place.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import (
    FIRST_COMPLETED,
    Executor,
    Future,
    ProcessPoolExecutor,
    ThreadPoolExecutor,
    wait,
)
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from itertools import islice
from queue import Empty, SimpleQueue
from threading import get_ident
from types import TracebackType
from typing import Any, Protocol, TypeVar

from splarn.core.errors import OutsideError
from splarn.core.work.feed import Feed
from splarn.core.work.interrupts import raise_lost
from splarn.core.work.lanes import ThreadLane, enter_worker, label_of, run_in, run_labelled
from splarn.core.work.progress import Lane, Progress

Item = TypeVar("Item")
Task = TypeVar("Task")
Result = TypeVar("Result")

WATCH_EVERY = 0.2
# Imported once in the process that workers are forked from.
_PRELOAD = ["splarn.core.load.loader", "splarn.core.check.checking"]


class Pool(Protocol):
    """Runs one function over many tasks; what the tasks `report` goes to `watch`."""

    workers: int

    def map(
        self,
        run: Callable[[Task], Result],
        tasks: Sequence[Task],
        watch: Progress | None = None,
    ) -> Iterator[Result]:
        """Results in the order of the tasks; an error of a task is raised in its place."""

    def as_done(
        self,
        run: Callable[[Task], Result],
        tasks: Sequence[Task],
        watch: Progress | None = None,
    ) -> Iterator[tuple[Task, Result]]:
        """Tasks with their results as they come; tasks are begun in order."""

    def as_fed(
        self,
        run: Callable[[Task], Result],
        feed: Feed[Item],
        make: Callable[[Item], Task],
        watch: Progress | None = None,
    ) -> Iterator[tuple[Item, Result]]:
        """Items that come meanwhile, with the results of the tasks that are made of them.

        An item is taken, and its task made here, once a worker is free for it. Raises what `feed`
        ends with.
        """

    def flow(self, run: Callable[[Task], Result], tasks: Iterable[Task]) -> Iterator[Result]:
        """Results in order of tasks that are drawn only a little ahead of the one wanted next."""


class Inline:
    """No other process: tasks run one after the other right here."""

    workers = 1

    def map(
        self,
        run: Callable[[Task], Result],
        tasks: Sequence[Task],
        watch: Progress | None = None,
    ) -> Iterator[Result]:
        """See Pool."""
        return (result for _, result in self.as_done(run, tasks, watch))

    def as_done(
        self,
        run: Callable[[Task], Result],
        tasks: Sequence[Task],
        watch: Progress | None = None,
    ) -> Iterator[tuple[Task, Result]]:
        """See Pool."""
        lane = ThreadLane(watch)
        for task in tasks:
            result = run_in(lane, run, task)
            raise_lost()
            yield task, result

    def as_fed(
        self,
        run: Callable[[Task], Result],
        feed: Feed[Item],
        make: Callable[[Item], Task],
        watch: Progress | None = None,
    ) -> Iterator[tuple[Item, Result]]:
        """See Pool."""
        lane = ThreadLane(watch)
        while (item := feed.await_next()) is not None:
            result = run_in(lane, run, make(item))
            raise_lost()
            yield item, result

    def flow(self, run: Callable[[Task], Result], tasks: Iterable[Task]) -> Iterator[Result]:
        """See Pool."""
        return map(run, tasks)


class _Futures:
    """What pools of threads and of processes share: tasks handed to an executor and watched."""

    def __init__(self, workers: int, executor: Executor) -> None:
        self.workers = workers
        self._executor = executor
        self._at_once = 2 * workers + 2

    def map(
        self,
        run: Callable[[Task], Result],
        tasks: Sequence[Task],
        watch: Progress | None = None,
    ) -> Iterator[Result]:
        """See Pool."""
        futures = [self._submit(run, task, watch) for task in tasks]
        try:
            for future in futures:
                self._await({future}, watch)
                yield _result(future)
        finally:
            self._stop(futures)

    def as_done(
        self,
        run: Callable[[Task], Result],
        tasks: Sequence[Task],
        watch: Progress | None = None,
    ) -> Iterator[tuple[Task, Result]]:
        """See Pool."""
        # Only a few are handed over ahead, so that ten thousand cost no more to wait for than ten.
        left = iter(tasks)
        begun: dict[Future[Result], Task] = {}

        def begin() -> None:
            for task in islice(left, self._at_once - len(begun)):
                begun[self._submit(run, task, watch)] = task

        try:
            begin()
            while begun:
                done = self._await(set(begun), watch)
                ended = [(begun.pop(future), future) for future in done]
                begin()
                for task, future in ended:
                    yield task, _result(future)
        finally:
            self._stop(list(begun))

    def as_fed(
        self,
        run: Callable[[Task], Result],
        feed: Feed[Item],
        make: Callable[[Item], Task],
        watch: Progress | None = None,
    ) -> Iterator[tuple[Item, Result]]:
        """See Pool."""
        # Whatever happens is heard in one place: a task that has come, or one that has ended.
        events: SimpleQueue[Future[Result] | None] = SimpleQueue()
        feed.listen(lambda: events.put(None))
        begun: dict[Future[Result], Item] = {}
        try:
            while True:
                while len(begun) < self.workers and (item := feed.take()) is not None:
                    future = self._submit(run, make(item), watch)
                    begun[future] = item
                    future.add_done_callback(events.put)
                if not begun and feed.over:
                    return
                ended: Future[Result] | None = None
                with suppress(Empty):
                    ended = events.get(timeout=WATCH_EVERY)
                self._observe(watch)
                raise_lost()
                if ended is not None:
                    yield begun.pop(ended), _result(ended)
        finally:
            self._stop(list(begun))

    def flow(self, run: Callable[[Task], Result], tasks: Iterable[Task]) -> Iterator[Result]:
        """See Pool."""
        begun: deque[Future[Result]] = deque()
        try:
            for task in tasks:
                begun.append(self._submit(run, task, None))
                if len(begun) > self.workers + 1:
                    yield _result(begun.popleft())
            while begun:
                yield _result(begun.popleft())
        finally:
            self._stop(list(begun))

    def _submit(
        self, run: Callable[[Task], Result], task: Task, watch: Progress | None
    ) -> Future[Result]:
        return self._executor.submit(run, task)

    def _await(self, waiting: set[Future[Result]], watch: Progress | None) -> set[Future[Result]]:
        while True:
            done, _ = wait(waiting, timeout=WATCH_EVERY, return_when=FIRST_COMPLETED)
            self._observe(watch)
            raise_lost()
            if done:
                return done

    def _observe(self, watch: Progress | None) -> None:
        """Passes on what tasks have reported since the last time."""

    def _stop(self, futures: Sequence[Future[Any]]) -> None:
        for future in futures:
            future.cancel()


class Threads(_Futures):
    """Threads of this process, for work that leaves the interpreter: packing, reading, arrays."""

    def __init__(self, workers: int) -> None:
        super().__init__(workers, ThreadPoolExecutor(workers))
        # Of each watcher, the lane of each thread.
        self._lanes: dict[int, list[ThreadLane]] = {}

    def close(self) -> None:
        """Waits for the tasks at work and drops the others."""
        self._executor.shutdown(wait=True, cancel_futures=True)

    def _submit(
        self, run: Callable[[Task], Result], task: Task, watch: Progress | None
    ) -> Future[Result]:
        lanes = self._lanes.setdefault(id(watch), [])

        def watched() -> Result:
            mine = next((one for one in lanes if one.thread == get_ident()), None)
            if mine is None:
                mine = ThreadLane(watch, lanes)
                lanes.append(mine)
            return run_in(mine, run, task)

        return self._executor.submit(watched)

    def _stop(self, futures: Sequence[Future[Any]]) -> None:
        # What is still at work would write into what the caller is about to clean up.
        super()._stop(futures)
        wait([future for future in futures if not future.cancelled()])
        self._lanes.clear()


class Processes(_Futures):
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
        wait([self._executor.submit(_linger) for _ in range(self.workers)])

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
            return self._executor.submit(run, task)
        self._labels.append(label_of(task))
        return self._executor.submit(run_labelled, run, task, len(self._labels))

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


class Some(_Futures):
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
                yield _result(future)
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

    def streams(self, count: int, in_process: bool) -> Pool:
        """So many load streams: threads of this process where the engine wants that."""
        return self.threads(count, "load") if in_process else self.of(count)

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


def _context(inherit: bool) -> Any:
    """How worker processes come to be: copies of this one, or of one that has only imported.

    A copy of a process with several threads may wait for ever for a lock that one of them held,
    and on other systems than Linux their own libraries may have begun some.
    """
    alone = threading.active_count() == 1
    if inherit and alone and sys.platform == "linux":
        return multiprocessing.get_context("fork")
    context = multiprocessing.get_context("forkserver")
    # What this one has imported by now, its workers are about to need.
    here = [name for name in sys.modules if not name.startswith(("_", "pytest", "tests"))]
    context.set_forkserver_preload([*_PRELOAD, *here])
    return context


# Below this, starting processes takes longer than the work.
WORTH_PROCESSES = 16 << 20


def workers_for(size: int) -> int:
    """Workers for so many bytes: one a core, or only one where there is little to do."""
    return usable_cores() if size >= WORTH_PROCESSES else 1


def usable_cores() -> int:
    """Cores that this process may use."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def _result(future: Future[Result]) -> Result:
    try:
        return future.result()
    except BrokenProcessPool:
        raise OutsideError(
            "A worker process was ended from outside (out of memory, perhaps); run the same "
            "command again, with fewer workers or streams if it happens twice."
        ) from None


def _linger() -> None:
    time.sleep(0.02)


def _begin_worker(counter: Any, following: Any, lanes: Any) -> None:
    enter_worker(counter, following, lanes)
    # The main process decides what an interrupt means.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)

    def end_with_parent() -> None:
        parent = multiprocessing.parent_process()
        if parent is not None:
            parent.join()
            os._exit(1)

    threading.Thread(target=end_with_parent, daemon=True).start()
