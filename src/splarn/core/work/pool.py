"""Worker processes: the same task functions run here in one process or many.

A task is a picklable frozen dataclass and its function a module-level one, so that another pool,
of other machines, can take this one's place.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import (
    FIRST_COMPLETED,
    Executor,
    Future,
    ThreadPoolExecutor,
    wait,
)
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from itertools import islice
from queue import Empty, SimpleQueue
from threading import get_ident
from typing import Any, Protocol, TypeVar

from splarn.core.errors import OutsideError
from splarn.core.work.feed import Feed
from splarn.core.work.interrupts import raise_lost
from splarn.core.work.lanes import ThreadLane, run_in
from splarn.core.work.progress import Progress

Item = TypeVar("Item")
Task = TypeVar("Task")
Result = TypeVar("Result")

WATCH_EVERY = 0.2
# Threads that each wait for a line or for other workers.
AT_ONCE = 16


class Pool(Protocol):
    """Runs one function over many tasks; what the tasks `report` goes to `watch`.

    Where workers are `apart`, on other machines, tasks and results should be small, and what they
    name must be there too.
    """

    workers: int
    apart: bool

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
        ahead: int = 0,
        most: Callable[[], int] | None = None,
    ) -> Iterator[tuple[Item, Result]]:
        """Items that come meanwhile, with the results of the tasks that are made of them.

        An item is taken, and its task made here, once a worker is free for it, or so many `ahead`
        of that. `most` tells how many workers are to be at work, where those of the pool are more.
        Raises what `feed` ends with.
        """

    def flow(
        self,
        run: Callable[[Task], Result],
        tasks: Iterable[Task],
        watch: Progress | None = None,
    ) -> Iterator[Result]:
        """Results in order of tasks that are drawn only a little ahead of the one wanted next."""


class Inline:
    """No other process: tasks run one after the other right here."""

    workers = 1
    apart = False

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
        ahead: int = 0,
        most: Callable[[], int] | None = None,
    ) -> Iterator[tuple[Item, Result]]:
        """See Pool."""
        lane = ThreadLane(watch)
        while (item := feed.await_next()) is not None:
            result = run_in(lane, run, make(item))
            raise_lost()
            yield item, result

    def flow(
        self,
        run: Callable[[Task], Result],
        tasks: Iterable[Task],
        watch: Progress | None = None,
    ) -> Iterator[Result]:
        """See Pool."""
        if watch is None:
            return map(run, tasks)
        lane = ThreadLane(watch)
        return (run_in(lane, run, task) for task in tasks)


class Futures:
    """What pools share: tasks handed to an executor, or to `_submit` of one's own, and watched."""

    apart = False

    def __init__(self, workers: int, executor: Executor | None) -> None:
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
                yield result_of(future)
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
                    yield task, result_of(future)
        finally:
            self._stop(list(begun))

    def as_fed(
        self,
        run: Callable[[Task], Result],
        feed: Feed[Item],
        make: Callable[[Item], Task],
        watch: Progress | None = None,
        ahead: int = 0,
        most: Callable[[], int] | None = None,
    ) -> Iterator[tuple[Item, Result]]:
        """See Pool."""
        # Whatever happens is heard in one place: a task that has come, or one that has ended.
        events: SimpleQueue[Future[Result] | None] = SimpleQueue()
        feed.listen(lambda: events.put(None))
        begun: dict[Future[Result], Item] = {}

        def room() -> int:
            wanted = self.workers if most is None else most()
            # Nothing is handed over ahead to workers that are not to be at work.
            return wanted if wanted < self.workers else self.workers + ahead

        try:
            while True:
                while len(begun) < room() and (item := feed.take()) is not None:
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
                    yield begun.pop(ended), result_of(ended)
        finally:
            self._stop(list(begun))

    def flow(
        self,
        run: Callable[[Task], Result],
        tasks: Iterable[Task],
        watch: Progress | None = None,
    ) -> Iterator[Result]:
        """See Pool."""
        begun: deque[Future[Result]] = deque()

        def first() -> Result:
            future = begun.popleft()
            if watch is not None:
                self._await({future}, watch)
            return result_of(future)

        try:
            for task in tasks:
                begun.append(self._submit(run, task, watch))
                if len(begun) > self.workers + 1:
                    yield first()
            while begun:
                yield first()
        finally:
            self._stop(list(begun))

    def _submit(
        self, run: Callable[[Task], Result], task: Task, watch: Progress | None
    ) -> Future[Result]:
        assert self._executor is not None, "a pool without one has a way of its own"
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


class Threads(Futures):
    """Threads of this process, for work that leaves the interpreter: packing, reading, arrays."""

    def __init__(self, workers: int) -> None:
        self._pool = ThreadPoolExecutor(workers)
        super().__init__(workers, self._pool)
        # Of each watcher, the lane of each thread.
        self._lanes: dict[int, list[ThreadLane]] = {}

    def close(self) -> None:
        """Waits for the tasks at work and drops the others."""
        self._pool.shutdown(wait=True, cancel_futures=True)

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

        return self._pool.submit(watched)

    def _stop(self, futures: Sequence[Future[Any]]) -> None:
        # What is still at work would write into what the caller is about to clean up.
        super()._stop(futures)
        wait([future for future in futures if not future.cancelled()])
        self._lanes.clear()


def result_of(future: Future[Result]) -> Result:
    try:
        return future.result()
    except BrokenProcessPool:
        raise OutsideError(
            "A worker process was ended from outside (out of memory, perhaps); run the same "
            "command again, with fewer workers or streams if it happens twice."
        ) from None
