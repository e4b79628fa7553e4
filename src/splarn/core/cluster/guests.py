"""A worker's side: sessions that it was greeted for, and their calls.

What a call has done is told every half second over a topic of the scheduler. A call whose key the
scheduler has let go, because its client is gone or does not want it any more, ends at its next
report; whatever it has open is taken back as with any other error.
"""

from __future__ import annotations

import pickle
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from splarn.core.cluster.allocation import give_freed_memory_back, keep_freed_memory
from splarn.core.cluster.reaching import Reach
from splarn.core.cluster.sealing import Sealed, sealed, unsealed
from splarn.core.cluster.usage import memory_now, of_this_process
from splarn.core.errors import OutsideError, OvertakenError
from splarn.core.source import secrets
from splarn.core.work.lanes import ThreadLane, run_in

BEAT = 0.5
# A session that is heard nothing of for so long, in seconds, is forgotten with its secrets.
KEPT = 120.0
# States of a task that the scheduler has let go while it runs.
LET_GO = ("cancelled", "released", "forgotten", "resumed")


class UnwantedError(BaseException):
    """Nobody wants the result any more. Not an Exception, so that nothing goes on after it."""


@dataclass(frozen=True)
class Letter:
    """What a session tells a worker before its first call; pickled, never logged.

    `texts` are told by their numbers from then on, `names` are values of `${NAME}`. The places
    that it must reach are sealed like tasks; `version` says which they are.
    """

    texts: tuple[str, ...]
    names: dict[str, str]
    reach: bytes
    version: int


@dataclass(frozen=True)
class Call:
    """A task, sealed apart, since only a worker that knows all its texts can open it."""

    number: int
    run: Callable[[Any], Any]
    task: bytes


class _Lane(ThreadLane):
    """What a call has done, kept until the next beat."""

    def __init__(self, session: str, number: int, key: str, worker: Any) -> None:
        super().__init__(None)
        # A process may be several workers.
        self.session, self.number, self.key, self.worker = session, number, key, worker
        self.unwanted = False
        self.told = (0.0, 0)

    def report(self, amount: float, rows: int) -> None:
        """See ThreadLane."""
        if self.unwanted:
            raise UnwantedError
        self.amount += amount
        self.rows += rows


@dataclass
class _Session:
    letter: Letter
    heard: float
    met: set[Any] = field(default_factory=set)
    lock: threading.Lock = field(default_factory=threading.Lock)


_sessions: dict[str, _Session] = {}
_running: dict[tuple[str, int], _Lane] = {}
# Calls that were let go before they began here.
_let_go: set[tuple[str, int]] = set()
_guard = threading.Lock()
# The most memory that this process held while calls were at work.
_memory: list[float] = []
_beating: list[threading.Thread] = []


def welcome(sent: Sealed) -> tuple[str, ...]:
    """Takes in what a session needs; why this worker is of no use to it, nothing where it is."""
    letter: Letter = pickle.loads(sent.data)
    secrets.lend(letter.names)
    reach: Reach = unsealed(letter.reach, dict(enumerate(letter.texts)))
    problems = reach.problems()
    if problems:
        # Of no use, it keeps nothing of what it was told.
        farewell(sent.session)
        secrets.take_back(letter.names)
        return problems
    with _guard:
        before = _sessions.get(sent.session)
        met = set() if before is None else before.met
        if not _sessions:
            keep_freed_memory()
        _sessions[sent.session] = _Session(letter, time.monotonic(), met)
        if not _beating:
            _beating.append(threading.Thread(target=_beat, daemon=True))
            _beating[0].start()
    return ()


def let_go(session: str, numbers: Sequence[int]) -> tuple[int, ...]:
    """Ends calls that nobody wants any more; those of them that are still at work."""
    with _guard:
        wanted = {(session, number) for number in numbers}
        _let_go.update(wanted)
        for key in wanted & _running.keys():
            _running[key].unwanted = True
        return tuple(number for _, number in wanted & _running.keys())


def measured() -> dict[str, float]:
    """What this process has used so far; memory at most since it was last asked."""
    used = of_this_process()
    with _guard:
        used["memory"] = max([used["memory"], *_memory])
        _memory.clear()
    return used


def farewell(session: str) -> None:
    """Forgets a session with all that it brought."""
    with _guard:
        known = _sessions.pop(session, None)
        if known is not None and not _sessions:
            give_freed_memory_back()
        _let_go.difference_update([one for one in _let_go if one[0] == session])
    if known is not None:
        secrets.take_back(known.letter.names)


def carried_out(sent: Sealed) -> list[tuple[str, Any]]:
    """Carries calls out: how each ended, and what came of it, sealed.

    It ends `done`, `failed`, `overtaken`, `unwanted`, or `unknown` where the worker has not been
    told all that the calls need. An error that were raised would be logged with what it quotes.
    """
    from distributed import get_worker

    calls: list[Call]
    calls, (texts, version) = pickle.loads(sent.data)
    known = _sessions.get(sent.session)
    if known is None or len(known.letter.texts) < texts or known.letter.version < version:
        return [("unknown", None)] * len(calls)
    worker = get_worker()
    with _guard:
        known.heard = time.monotonic()
    key = str(worker.get_current_task())
    return [_carried_out(sent.session, known, call, key, worker) for call in calls]


def _carried_out(
    session: str, known: _Session, call: Call, key: str, worker: Any
) -> tuple[str, Any]:
    texts = dict(enumerate(known.letter.texts))
    lane = _Lane(session, call.number, key, worker)
    with _guard:
        if (session, call.number) in _let_go:
            return "unwanted", None
        _running[session, call.number] = lane
    begun = time.perf_counter()
    try:
        try:
            task = unsealed(call.task, texts)
            _meet(known, task)
            outcome: tuple[str, Any] = "done", run_in(lane, call.run, task)
        except UnwantedError:
            return "unwanted", None
        except OvertakenError as error:
            outcome = "overtaken", error
        except MemoryError:
            outcome = "failed", OutsideError("A worker has too little memory for one part.")
        except Exception as error:
            outcome = "failed", error
        numbers = {text: number for number, text in texts.items()}
        seconds = time.perf_counter() - begun
        told = (outcome[1], lane.amount, lane.rows, seconds)
        try:
            return outcome[0], sealed(told, numbers.get)
        except Exception:
            plain = RuntimeError(f"{type(outcome[1]).__name__}: {outcome[1]}")
            return "failed", sealed((plain, 0.0, 0, seconds), numbers.get)
    finally:
        with _guard:
            _running.pop((session, call.number), None)
            known.heard = time.monotonic()


def topic_of(session: str) -> str:
    """Where a session's calls tell what they have done."""
    return f"splarn-{session}"


def _meet(session: _Session, task: Any) -> None:
    """Lets the first task of a kind look whether it has come to the right place."""
    meet = getattr(task, "meet", None)
    if meet is None:
        return
    what = type(task), task.meeting
    with session.lock:
        if what not in session.met:
            meet()
            session.met.add(what)


def _beat() -> None:
    """Tells what calls have done, and ends those that nobody wants any more."""
    while True:
        time.sleep(BEAT)
        with _guard:
            lanes = list(_running.values())
            old = time.monotonic() - KEPT
            busy = {lane.session for lane in lanes}
            idle = [name for name, one in _sessions.items() if one.heard < old and name not in busy]
        for name in idle:
            farewell(name)
        if lanes:
            held = memory_now()
            with _guard:
                _memory[:] = [max([held, *_memory])]
        told: dict[tuple[str, Any], list[tuple[int, float, int]]] = {}
        for lane in lanes:
            lane.unwanted = lane.unwanted or not _wanted(lane.worker, lane.key)
            now = lane.amount, lane.rows
            if now != lane.told:
                lane.told = now
                told.setdefault((lane.session, lane.worker), []).append((lane.number, *now))
        for (name, worker), done in told.items():
            worker.log_event(topic_of(name), done)


def _wanted(worker: Any, key: str) -> bool:
    """Whether the scheduler still waits for a task that runs here."""
    if str(getattr(worker.status, "name", "running")) not in ("running", "paused", "init"):
        return False
    found = worker.state.tasks.get(key)
    return found is not None and found.state not in LET_GO
