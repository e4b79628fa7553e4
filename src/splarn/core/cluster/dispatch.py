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
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from functools import partial
from queue import Empty, SimpleQueue
from typing import Any

from splarn.core.cluster.calls import Handed, Limit, Placed
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
# Another one may be a call of a client that is gone, which ends within a beat or two.
OVERTAKEN, PAUSE = 5, 1.0


class Dispatcher:
    """Hands calls to the workers of a crew until it is closed."""

    def __init__(self, crew: Crew) -> None:
        self.crew = crew
        self.session, self.letters = crew.session, crew.letters
        self._client = crew.client
        self._events: SimpleQueue[Callable[[], object]] = SimpleQueue()
        self._numbers, self._orders = itertools.count(1), itertools.count(1)
        self._calls: dict[int, Placed] = {}
        self._limits: list[Limit] = []
        self._fetchers = ThreadPoolExecutor(4, thread_name_prefix="splarn-fetch")
        self._greeters = ThreadPoolExecutor(2, thread_name_prefix="splarn-greet")
        self._closed = False
        self._alone_since: float | None = None
        self._client.subscribe_topic(topic_of(self.session), self._heard)
        self._thread = threading.Thread(target=self._work, daemon=True, name="splarn-dispatch")
        self._thread.start()

    def limit(self, most: int, machines: int | None) -> Limit:
        """A new limit for a pool."""
        made = Limit(most, machines)
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
        if self._closed:
            return
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
            try:
                with suppress(Empty):
                    self._events.get(timeout=LOOK_EVERY / 2)()
                    while True:
                        self._events.get_nowait()()
                if time.monotonic() - looked > LOOK_EVERY:
                    looked = time.monotonic()
                    self._look()
                self._place()
            except Exception as error:
                # Whoever waits for a call is told of it, rather than waiting for ever.
                self._fail_all(error)

    def _take(self, call: Placed) -> None:
        self._calls[call.number] = call
        call.limit.waiting.append(call)

    def _place(self) -> None:
        """Hands over what may be, each to the worker with the most room."""
        for limit in self._limits:
            while limit.waiting:
                worker = self._room(limit)
                if worker is None:
                    break
                calls = self._next(limit)
                if calls:
                    self._hand(calls, worker, limit)

    def _room(self, limit: Limit) -> Worker | None:
        """A worker that may be given more of a pool, None where all have enough."""
        crew = self.crew
        ahead = limit.ahead if limit.most >= crew.capacity(limit.machines) else 0
        if len(limit.running) >= limit.most + ahead * len(crew.fit):
            return None
        return crew.room(ahead, limit.machines)

    def _next(self, limit: Limit) -> list[Placed]:
        """The calls that are handed over next, of which some worker's share is left for others."""
        share = -(-len(limit.waiting) // max(2 * limit.most, 1))
        found: list[Placed] = []
        while limit.waiting and len(found) < min(limit.together, share):
            # One that has lost a worker may be what ended it, and goes alone.
            if found and (limit.waiting[0].lost or found[-1].lost):
                break
            call = limit.waiting.popleft()
            wanted = not call.stopped and not call.future.cancelled()
            if wanted and (call.future.running() or call.future.set_running_or_notify_cancel()):
                found.append(call)
            else:
                self._calls.pop(call.number, None)
        return found

    def _hand(self, calls: Sequence[Placed], worker: Worker, limit: Limit) -> None:
        letters, good = [], []
        for call in calls:
            again = call.retried and hasattr(call.task, "again")
            try:
                data = sealed(call.task.again() if again else call.task, self.letters.number)
                letters.append(Call(call.number, call.run, data))
                good.append(call)
            except Exception as error:
                self._settle(call, error=error)
        if not good:
            return
        needs = len(self.letters.texts), self.crew.reach.version
        sent = Sealed(self.session, pickle.dumps((letters, needs)))
        handed = Handed(tuple(good), worker, next(self._orders))
        for call in good:
            call.handed, call.at = handed, worker.address
        worker.calls.add(handed)
        limit.running.add(handed)
        handed.theirs = self._client.submit(
            carried_out, sent, key=f"splarn-{self.session}-{secrets.token_hex(6)}",
            workers=[worker.address], allow_other_workers=False, pure=False, retries=0,
        )  # fmt: skip
        handed.theirs.add_done_callback(lambda _: self._do(partial(self._ended, handed)))

    def _ended(self, handed: Handed) -> None:
        """What a worker has for us is fetched by another thread, for that may take its time."""
        theirs = handed.theirs
        if theirs is None:
            return
        if theirs.status == "finished":
            self._fetchers.submit(self._fetch, handed, theirs)
            return
        error = theirs.exception() if theirs.status == "error" else None
        begun = handed.may_have_begun
        self._off(handed)
        self._doubt(handed.worker)
        known = ("KilledWorker", "CommClosedError", "NoValidWorkerError")
        for call in handed.calls:
            if error is None or type(error).__name__ in known:
                self._lost(call, begun)
            else:
                self._settle(call, error=OutsideError(
                    f"A worker could not take a task in ({type(error).__name__}: {error})."
                ))  # fmt: skip

    def _fetch(self, handed: Handed, theirs: Any) -> None:
        try:
            told = theirs.result(timeout=PATIENCE)
        except BaseException:
            told = None
        self._do(partial(self._fetched, handed, told))

    def _fetched(self, handed: Handed, told: list[tuple[str, Any]] | None) -> None:
        """Takes in what came of calls; None where their worker was gone before it could tell."""
        if handed.theirs is None:
            return
        self._off(handed)
        if told is None or any(how == "unwanted" for how, _ in told):
            self._doubt(handed.worker)
        if told is None:
            for call in handed.calls:
                self._lost(call)
            return
        texts = dict(enumerate(self.letters.texts))
        unknown = [
            call
            for call, one in zip(handed.calls, told, strict=True)
            if self._came(call, *one, texts) is False
        ]
        if unknown:
            # It knows less than the calls need, or was away for too long.
            self._doubt(handed.worker)
            unknown[0].limit.waiting.extendleft(reversed(unknown))

    def _came(self, call: Placed, how: str, data: Any, texts: Mapping[int, str]) -> bool:
        """Takes in what came of one call; False where it did not begin."""
        if how == "unknown":
            return False
        if how == "unwanted":
            self._lost(call)
            return True
        try:
            result, amount, rows, seconds = unsealed(data, texts)
        except Exception as error:
            self._settle(call, error=error)
            return True
        call.limit.seconds.append(seconds)
        if how == "overtaken" and call.overtaken < OVERTAKEN:
            call.overtaken += 1
            call.retried = True
            wait = threading.Timer(PAUSE, lambda: self._do(partial(self._take, call)))
            wait.daemon = True
            wait.start()
            return True
        call.amount, call.rows = amount, rows
        if how == "done":
            self._settle(call, result=result)
        else:
            self._settle(call, error=result)
        return True

    def _settle(self, call: Placed, result: Any = None, error: BaseException | None = None) -> None:
        self._calls.pop(call.number, None)
        if call.future.done():
            return
        if error is not None:
            call.future.set_exception(error)
        else:
            call.future.set_result(result)

    def _off(self, handed: Handed) -> None:
        """The calls are at no worker any more."""
        handed.worker.calls.discard(handed)
        for call in handed.calls:
            call.handed = None
            call.limit.running.discard(handed)
        if handed.theirs is not None:
            handed.theirs.release()
        handed.theirs = None

    def _lost(self, call: Placed, begun: bool = True) -> None:
        """Tries a call anew whose worker is gone; what it brought in is known by the notes.

        One that had not begun is not what ended the worker.
        """
        if call.stopped:
            self._calls.pop(call.number, None)
            return
        call.lost += begun
        call.retried = True
        if call.lost >= LOSSES:
            what = call.label or "A task"
            self._settle(call, error=OutsideError(
                f"{what} lost its worker {LOSSES} times (out of memory, perhaps): give workers "
                "more memory or smaller parts, then run the same command again."
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
            held = [(handed, handed.may_have_begun) for handed in worker.calls]
            for handed, begun in held:
                if handed.theirs is not None:
                    handed.theirs.cancel()
                self._off(handed)
                for call in reversed(handed.calls):
                    self._lost(call, begun)

    def _doubt(self, worker: Worker) -> None:
        """Gives a worker nothing more until it has answered, as one that is ended does not."""
        worker.ready = False
        self._greet([worker.address])

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
            self._calls.pop(call.number, None)
            with suppress(ValueError):
                call.limit.waiting.remove(call)
            handed = call.handed
            if handed is not None:
                at.setdefault(handed.worker.address, []).append(call.number)
                if all(one.stopped for one in handed.calls):
                    handed.theirs.cancel()
                    self._off(handed)
            call.future.cancel()
        return at

    def _fail_all(self, error: Exception) -> None:
        for call in list(self._calls.values()):
            with suppress(ValueError):
                call.limit.waiting.remove(call)
            if call.handed is not None:
                self._off(call.handed)
            call.stopped = True
            self._settle(call, error=error)
        self._alone_since = None
