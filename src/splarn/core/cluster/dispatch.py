"""Which worker carries out which call, and what becomes of calls whose worker is gone.

Calls are placed here rather than by the scheduler, since streams are limited in all and on each
machine, and since a call is only for workers that were found to be like this machine. All state
belongs to one thread; others hand it events.
"""

from __future__ import annotations

import itertools
import pickle
import secrets
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial
from queue import Empty, SimpleQueue
from typing import Any

from splarn.core.cluster.crew import Crew, Worker
from splarn.core.cluster.guests import Call, carried_out, topic_of
from splarn.core.cluster.sealing import Sealed, sealed, unsealed
from splarn.core.errors import OutsideError

# How often the scheduler is asked who is there, in seconds.
LOOK_EVERY = 1.0
# A call that has lost so many workers is taken to be what ends them.
LOSSES = 3
# How long it is waited for a worker while there is none, and for calls that nobody wants to end.
PATIENCE, LEAVING = 60.0, 20.0
# Calls that last longer than this, in seconds, are not handed over before a worker is free.
SHORT = 0.25
# What waits at a worker meanwhile, beside what it is at.
AHEAD = 3
# Another one may be a call of a client that is gone, which ends within a beat or two.
OVERTAKEN, PAUSE = 5, 1.0


@dataclass(eq=False)
class Placed:
    """A task on its way, its result for `future`. `again` makes it a task that is tried anew."""

    number: int
    run: Callable[[Any], Any]
    task: Any
    label: str
    limit: Limit
    future: Future[Any]
    worker: Worker | None = None
    theirs: Any = None
    lost: int = 0
    overtaken: int = 0
    retried: bool = False
    begun: float = 0.0
    amount: float = 0.0
    rows: int = 0
    told: float = 0.0
    stopped: bool = False


@dataclass(eq=False)
class Limit:
    """How many calls of one pool are at work at once, and those that wait."""

    most: int
    waiting: deque[Placed] = field(default_factory=deque)
    running: set[Placed] = field(default_factory=set)
    seconds: deque[float] = field(default_factory=lambda: deque(maxlen=30))

    @property
    def short(self) -> bool:
        """Whether calls take so little that waiting for the next one would cost more."""
        return len(self.seconds) >= 3 and sorted(self.seconds)[len(self.seconds) // 2] < SHORT


class Dispatcher:
    """Hands calls to the workers of a crew until it is closed."""

    def __init__(self, crew: Crew) -> None:
        self.crew = crew
        self.session, self.letters = crew.session, crew.letters
        self._client = crew.client
        self._events: SimpleQueue[Callable[[], object]] = SimpleQueue()
        self._numbers = itertools.count(1)
        self._calls: dict[int, Placed] = {}
        self._limits: list[Limit] = []
        self._fetchers = ThreadPoolExecutor(4, thread_name_prefix="splarn-fetch")
        self._greeters = ThreadPoolExecutor(2, thread_name_prefix="splarn-greet")
        self._closed = False
        self._alone_since: float | None = None
        self._client.subscribe_topic(topic_of(self.session), self._heard)
        self._thread = threading.Thread(target=self._work, daemon=True, name="splarn-dispatch")
        self._thread.start()

    def limit(self, most: int) -> Limit:
        """A new limit for a pool."""
        made = Limit(most)
        self._do(lambda: self._limits.append(made))
        return made

    def submit(self, run: Callable[[Any], Any], task: Any, label: str, limit: Limit) -> Placed:
        """Hands a task over."""
        call = Placed(next(self._numbers), run, task, label, limit, Future())
        self._do(lambda: self._take(call))
        return call

    def stop(self, calls: list[Placed]) -> None:
        """Lets calls go and waits until none of them is at work any more."""
        told: Future[dict[str, list[int]]] = Future()
        self._do(lambda: told.set_result(self._let_go(calls)))
        until = time.monotonic() + LEAVING
        with suppress(TimeoutError):
            at = told.result(timeout=LEAVING)
            while at and time.monotonic() < until:
                at = self.crew.let_go(at)
                time.sleep(0.1 if at else 0.0)

    def close(self) -> None:
        """Ends the thread; calls that are left are let go."""
        self.stop(list(self._calls.values()))
        self._do(lambda: setattr(self, "_closed", True))
        self._thread.join(10)
        for pool in (self._fetchers, self._greeters):
            pool.shutdown(wait=False, cancel_futures=True)

    def _do(self, what: Callable[[], object]) -> None:
        self._events.put(what)

    def _work(self) -> None:
        looked = time.monotonic()
        while not self._closed:
            with suppress(Empty):
                self._events.get(timeout=LOOK_EVERY / 2)()
                while True:
                    self._events.get_nowait()()
            try:
                if time.monotonic() - looked > LOOK_EVERY:
                    looked = time.monotonic()
                    self._look()
                self._place()
            except OutsideError as error:
                self._fail_all(error)

    def _take(self, call: Placed) -> None:
        self._calls[call.number] = call
        call.limit.waiting.append(call)

    def _place(self) -> None:
        """Hands over what may be, each to the worker with the most room."""
        for limit in self._limits:
            while limit.waiting:
                call = limit.waiting[0]
                if call.future.cancelled() or call.stopped:
                    limit.waiting.popleft()
                    self._calls.pop(call.number, None)
                    continue
                worker = self._room(limit)
                if worker is None:
                    break
                limit.waiting.popleft()
                if not call.future.running() and not call.future.set_running_or_notify_cancel():
                    self._calls.pop(call.number, None)
                    continue
                self._hand(call, worker)

    def _room(self, limit: Limit) -> Worker | None:
        """A worker that may be given another call of a pool, None where all have enough."""
        crew = self.crew
        ahead = AHEAD if limit.short and limit.most >= crew.threads else 0
        if len(limit.running) >= limit.most + ahead * len(crew.fit):
            return None
        return crew.room(ahead)

    def _hand(self, call: Placed, worker: Worker) -> None:
        task = call.task
        if call.retried and hasattr(task, "again"):
            task = task.again()
        try:
            data = sealed(task, self.letters.number)
            letter = Call(
                call.number, call.run, data, len(self.letters.texts), self.crew.reach.version
            )
            sent = Sealed(self.session, pickle.dumps(letter))
        except Exception as error:
            self._calls.pop(call.number, None)
            call.future.set_exception(error)
            return
        call.worker, call.begun = worker, time.monotonic()
        worker.calls.add(call)
        call.limit.running.add(call)
        call.theirs = self._client.submit(
            carried_out, sent, key=f"splarn-{self.session}-{call.number}-{secrets.token_hex(3)}",
            workers=[worker.address], allow_other_workers=False, pure=False, retries=0,
        )  # fmt: skip
        ended = partial(self._ended, call)
        call.theirs.add_done_callback(lambda theirs: self._do(partial(ended, theirs)))

    def _ended(self, call: Placed, theirs: Any) -> None:
        """What a worker has for us is fetched by another thread, for that may take its time."""
        if theirs is not call.theirs:
            return
        if theirs.status == "finished":
            self._fetchers.submit(self._fetch, call, theirs)
        elif theirs.status == "error":
            error = theirs.exception()
            self._off(call)
            if type(error).__name__ in ("KilledWorker", "CommClosedError", "NoValidWorkerError"):
                self._lost(call)
            else:
                self._settle(call, error=OutsideError(
                    f"A worker could not take a task in ({type(error).__name__}: {error})."
                ))  # fmt: skip
        else:
            self._off(call)
            self._lost(call)

    def _fetch(self, call: Placed, theirs: Any) -> None:
        try:
            told = theirs.result(timeout=PATIENCE)
        except BaseException:
            self._do(lambda: self._not_fetched(call, theirs))
        else:
            self._do(lambda: self._fetched(call, theirs, told))

    def _not_fetched(self, call: Placed, theirs: Any) -> None:
        if theirs is call.theirs:
            self._off(call)
            self._lost(call)

    def _fetched(self, call: Placed, theirs: Any, told: tuple[str, Any]) -> None:
        if theirs is not call.theirs:
            return
        worker = call.worker
        self._off(call)
        how, data = told
        if how == "unknown":
            # It was sent away meanwhile, or knows less than the call needs.
            if worker is not None:
                worker.ready = False
                self._greet([worker.address])
            call.limit.waiting.appendleft(call)
            return
        if how == "unwanted":
            self._lost(call)
            return
        texts = dict(enumerate(self.letters.texts))
        try:
            result, amount, rows, seconds = unsealed(data, texts)
        except Exception as error:
            self._settle(call, error=error)
            return
        call.limit.seconds.append(seconds)
        if how == "overtaken" and call.overtaken < OVERTAKEN:
            call.overtaken += 1
            call.retried = True
            wait = threading.Timer(PAUSE, lambda: self._do(partial(self._take, call)))
            wait.daemon = True
            wait.start()
            return
        call.amount, call.rows = amount, rows
        if how == "done":
            self._settle(call, result=result)
        else:
            self._settle(call, error=result)

    def _settle(self, call: Placed, result: Any = None, error: BaseException | None = None) -> None:
        self._calls.pop(call.number, None)
        if call.future.cancelled():
            return
        if error is not None:
            call.future.set_exception(error)
        else:
            call.future.set_result(result)

    def _off(self, call: Placed) -> None:
        """The call is at no worker any more."""
        if call.worker is not None:
            call.worker.calls.discard(call)
        call.limit.running.discard(call)
        call.worker = None
        if call.theirs is not None:
            call.theirs.release()
        call.theirs = None

    def _lost(self, call: Placed) -> None:
        """Tries a call anew whose worker is gone; what it brought in is known by the notes."""
        if call.stopped:
            self._calls.pop(call.number, None)
            return
        call.lost += 1
        call.retried = True
        if call.lost >= LOSSES:
            what = f"{call.label} " if call.label else "a task "
            self._settle(call, error=OutsideError(
                f"{what}lost its worker {LOSSES} times (out of memory, perhaps): give workers more "
                "memory or smaller parts, then run the same command again."
            ))  # fmt: skip
            return
        call.limit.waiting.appendleft(call)

    def _look(self) -> None:
        """Asks who is there: newcomers are greeted, and calls of those that left are placed anew.

        Raises OutsideError when the scheduler is gone, or no worker has come for long.
        """
        come, gone = self.crew.look()
        self._without(gone)
        if come:
            self._greet(come)
        waiting = any(limit.waiting for limit in self._limits)
        if self.crew.fit or not waiting:
            self._alone_since = None
            return
        self._alone_since = self._alone_since or time.monotonic()
        if time.monotonic() - self._alone_since > PATIENCE:
            raise OutsideError(
                f"No worker of {self.crew.place} can go on{self.crew.why_not()}: start some, then "
                "run the same command again."
            )

    def _without(self, gone: Sequence[Worker]) -> None:
        for worker in gone:
            for call in list(worker.calls):
                if call.theirs is not None:
                    call.theirs.cancel()
                self._off(call)
                self._lost(call)

    def _greet(self, addresses: list[str]) -> None:
        self.crew.asked(addresses)

        def greet() -> None:
            try:
                found = self.crew.greeted(addresses)
            except OutsideError:
                # The next look finds out whether the scheduler is gone for good.
                found = dict.fromkeys(addresses)
            self._do(lambda: self._without(self.crew.joined(found)))

        self._greeters.submit(greet)

    def _heard(self, event: Any) -> None:
        """What workers tell of calls at work; called in the client's own thread."""
        told = event[1]
        self._do(lambda: self._progressed(told))

    def _progressed(self, told: list[tuple[int, float, int]]) -> None:
        for number, amount, rows in told:
            call = self._calls.get(number)
            if call is not None:
                call.amount, call.rows = amount, rows

    def _let_go(self, calls: list[Placed]) -> dict[str, list[int]]:
        """Gives calls up; the numbers of those that workers have, by the workers' addresses."""
        at: dict[str, list[int]] = {}
        for call in calls:
            call.stopped = True
            if call.worker is not None:
                at.setdefault(call.worker.address, []).append(call.number)
            if call.theirs is not None:
                call.theirs.cancel()
            self._off(call)
            self._calls.pop(call.number, None)
            with suppress(ValueError):
                call.limit.waiting.remove(call)
            call.future.cancel()
        return at

    def _fail_all(self, error: OutsideError) -> None:
        for call in list(self._calls.values()):
            with suppress(ValueError):
                call.limit.waiting.remove(call)
            self._off(call)
            call.stopped = True
            self._settle(call, error=error)
        self._alone_since = None
