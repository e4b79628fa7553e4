"""The pool over a cluster by itself: limits, progress, errors, workers that go, what is let go."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from concurrent.futures import Future
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from splarn.core.cluster import visiting
from splarn.core.cluster.dispatch import LOSSES
from splarn.core.cluster.guests import carried_out
from splarn.core.cluster.joining import join
from splarn.core.cluster.pool import Cluster, refuse_files
from splarn.core.cluster.sealing import Sealed
from splarn.core.errors import OutsideError, OvertakenError, RequestError
from splarn.core.source import secrets
from splarn.core.tuning.gauges import Used
from splarn.core.work.feed import Feed
from splarn.core.work.lanes import report
from splarn.core.work.pools import Pools
from splarn.core.work.progress import Lane, Silent
from splarn.engines import open_engine, opener

distributed: Any = pytest.importorskip("distributed")
# Workers of these tests are threads of this process, so that they can tell what they see.
at_work: list[int] = []
seen: dict[str, Any] = {}
lock = threading.Lock()


@dataclass(frozen=True)
class Work:
    """So many steps, each of which is reported."""

    number: int
    steps: int = 3
    pause: float = 0.0
    kind: str = ""

    @property
    def label(self) -> str:
        return f"part-{self.number}"

    def again(self) -> Work:
        return replace(self, kind=self.kind.removeprefix("overtaken"))

    @property
    def meeting(self) -> str:
        return self.kind

    def meet(self) -> None:
        seen["met"] = seen.get("met", 0) + 1
        if self.kind == "elsewhere":
            raise OutsideError("It is another server.")


def run(task: Work) -> int:
    """Does it, and notes how many do so at once."""
    with lock:
        at_work.append(1)
        seen["most"] = max(seen.get("most", 0), len(at_work))
    try:
        for _ in range(task.steps):
            time.sleep(task.pause)
            report(1.0, 2)
        if task.kind.startswith("overtaken"):
            raise OvertakenError("Another one was quicker.")
        if task.kind == "wrong":
            raise RequestError("There is no such column.")
        if task.kind == "odd":
            raise ZeroDivisionError
        return task.number * 10
    finally:
        with lock:
            # One that an earlier test gave up may end late.
            del at_work[-1:]


class Watch(Silent):
    """Keeps what it is told."""

    def __init__(self) -> None:
        self.amount, self.most, self.rows = 0.0, 0, 0

    def advance(self, amount: float) -> None:
        self.amount += amount

    def lanes(self, lanes: Any) -> None:
        told: list[Lane] = list(lanes)
        self.most = max(self.most, len(told))
        self.rows = sum(lane.rows for lane in told)


@pytest.fixture
def dask() -> Iterator[Any]:
    with distributed.LocalCluster(
        n_workers=3, threads_per_worker=1, processes=False, protocol="tcp://",
        dashboard_address=":0", silence_logs=50, host="127.0.0.1",
    ) as made:  # fmt: skip
        yield made


@pytest.fixture
def cluster(dask: Any) -> Iterator[Cluster]:
    at_work.clear()
    seen.clear()
    joined = Cluster(dask.scheduler_address)
    yield joined
    joined.close()


def test_a_cluster_is_a_pool_like_any_other(cluster: Cluster) -> None:
    assert cluster.slots == 3 and cluster.machines == 1 and cluster.capacity(1) == 3
    assert "3 workers" in cluster.told() and "thread" in cluster.described
    pool, watch = cluster.pool(None), Watch()
    assert pool.apart and pool.workers == 3
    tasks = [Work(number, pause=0.02) for number in range(12)]
    assert list(pool.map(run, tasks, watch)) == [10 * one for one in range(12)]
    assert watch.amount == 36 and 1 <= watch.most <= 3 and watch.rows == 72
    assert dict(pool.as_done(run, tasks)) == {task: task.number * 10 for task in tasks}
    assert list(pool.flow(run, iter(tasks))) == [10 * one for one in range(12)]
    feed: Feed[int] = Feed(4)
    maker = threading.Thread(target=lambda: ([feed.put(one) for one in range(9)], feed.close()))
    maker.start()
    fed = dict(pool.as_fed(run, feed, lambda number: Work(number), watch, 2))
    assert fed == {number: number * 10 for number in range(9)}
    # Once for each kind of task in a worker, whatever their number.
    assert seen["met"] <= 3
    # Very many that take no time go many together.
    assert len(list(pool.as_done(len, ["x" * (one % 7) for one in range(600)]))) == 600


def test_streams_are_limited_in_all_and_on_each_machine(dask: Any, cluster: Cluster) -> None:
    tasks = [Work(number, pause=0.05) for number in range(8)]
    list(cluster.pool(2).map(run, tasks))
    assert seen["most"] == 2
    seen.clear()
    narrow = Cluster(dask.scheduler_address, per_machine=1)
    try:
        assert narrow.slots == 1
        list(narrow.pool(3).map(run, tasks))
        assert seen["most"] == 1
    finally:
        narrow.close()
    pools = Pools(away=cluster)
    assert pools.usual(1) == 3 and pools.machines == 1
    assert pools.threads(2) is pools.threads(2) and pools.on(1).of(2).apart


def test_errors_are_those_of_the_tasks(cluster: Cluster) -> None:
    pool = cluster.pool(3)
    for kind, error in (("wrong", RequestError), ("odd", ZeroDivisionError)):
        with pytest.raises(error):
            list(pool.map(run, [Work(1), Work(2, kind=kind), Work(3)]))
    with pytest.raises(OutsideError, match="another server"):
        list(pool.map(run, [Work(1, kind="elsewhere")]))
    # One that was overtaken is tried again from where the other has come to.
    assert list(pool.map(run, [Work(4, kind="overtaken")])) == [40]
    # What cannot be sent is said, rather than waited for.
    with pytest.raises((TypeError, AttributeError)):
        list(pool.map(run, [threading.Lock()]))  # type: ignore[list-item]


def test_what_is_no_longer_wanted_ends_before_it_is_done(cluster: Cluster) -> None:
    pool = cluster.pool(3)
    tasks = [Work(0, 1), *(Work(number, 200, 0.05) for number in range(1, 9))]
    results = pool.as_done(run, tasks)
    assert next(iter(results))[1] == 0
    results.close()  # type: ignore[attr-defined]
    assert not at_work


def test_a_worker_that_goes_leaves_its_part_to_others(dask: Any, cluster: Cluster) -> None:
    pool = cluster.pool(3)
    tasks = [Work(number, 10, 0.1) for number in range(4)]
    # One that is gone before anybody has looked, and one that goes while it is at work.
    for wait in (0.0, 0.5):
        leaving = next(iter(dask.workers.values()))
        ending = threading.Timer(wait, partial(dask.sync, leaving.close))
        ending.start()
        if not wait:
            ending.join()
        assert list(pool.map(run, tasks)) == [0, 10, 20, 30]
        ending.join()
    # One that comes later is looked at, and then is one of them.
    before = cluster.slots
    dask.scale(6)
    until = time.monotonic() + 90
    while cluster.slots <= before and time.monotonic() < until:
        list(pool.map(run, [Work(1, 1, 0.3)]))
    assert cluster.slots > before
    # A part that has ended so many workers is given up.
    call = cluster._dispatcher.submit(run, Work(1, 2, 1.0), "part", pool._limit)  # type: ignore[union-attr]
    for _ in range(LOSSES):
        until = time.monotonic() + 20
        while call.handed is None and time.monotonic() < until:
            time.sleep(0.02)
        handed = call.handed
        if handed is not None:
            cluster._dispatcher._do(partial(cluster._dispatcher._without, [handed.worker]))  # type: ignore[union-attr]
            while call.handed is handed:
                time.sleep(0.02)
    with pytest.raises(OutsideError, match="out of memory, perhaps"):
        call.future.result(timeout=20)


def test_a_call_that_waits_behind_another_is_not_what_ended_a_worker(cluster: Cluster) -> None:
    pool = cluster.pool(3)
    dispatcher: Any = cluster._dispatcher
    list(pool.map(run, [Work(number, 1, 0.2) for number in range(3)]))
    calls = [
        dispatcher.submit(run, Work(number, 2, 0.3), "", pool._limit)  # type: ignore[attr-defined]
        for number in range(24)
    ]
    until = time.monotonic() + 20
    while time.monotonic() < until:
        two = [one for one in cluster.crew.fit.values() if len(one.calls) == 2]
        if two:
            break
        time.sleep(0.005)
    assert two, "a worker has one part ahead where parts are short"
    told: Future[list[tuple[int, int]]] = Future()

    def without() -> None:
        first, second = sorted(two[0].calls, key=lambda one: one.order)
        dispatcher._without(two)
        told.set_result([(first.calls[0].lost, second.calls[0].lost)])

    dispatcher._do(without)
    assert told.result(20) == [(1, 0)]
    assert [call.future.result(60) for call in calls] == [10 * one for one in range(24)]


def test_places_and_targets_are_looked_at_by_each_worker(
    dask: Any, cluster: Cluster, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "a.csv").write_text("a\n1\n")
    lake = opener(f"lake:///{tmp_path}/lake")
    cluster.reach([tmp_path / "a.csv"], [tmp_path / "parts", None], lake)
    assert cluster.notes() == []
    # Texts with secrets are told by number; a worker that lacks one is greeted once more.
    monkeypatch.setenv("LOCK_WORD", "quay-lantern")
    secrets.filled("${LOCK_WORD}", "it")
    pool = cluster.pool(3)
    assert list(pool.map(len, ["x://u:quay-lantern@h/", "${LOCK_WORD}"])) == [
        len("x://u:quay-lantern@h/"), len(f"${{{cluster.crew.letters.prefix}LOCK_WORD}}")
    ]  # fmt: skip
    fixed = cluster.fixed()
    assert fixed["slots"] == 3 and float(fixed["part_seconds"]) > 0
    before, after = cluster.used(), cluster.used()
    assert set(after) == set(before) and len(after) == 3
    assert Used().plus(before, after).cpu_seconds >= 0
    (tmp_path / "b.csv").write_text("a\n1\n")
    moved = cluster.crew.reach.reading([tmp_path / "b.csv"])
    (tmp_path / "b.csv").unlink()
    cluster.crew.reach = moved
    with pytest.raises(RequestError, match="does not see"):
        cluster.crew.renew()
    cluster.close()
    assert not list(tmp_path.glob(".*"))
    with pytest.raises(RequestError, match="one process writes"):
        refuse_files(open_engine(f"sqlite:///{tmp_path}/x.db"))


def test_what_names_no_cluster_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for words in ("nonsense", "local:0", "local:x"):
        with pytest.raises(RequestError):
            join(words)
    (tmp_path / "scheduler.json").write_text("{}")
    monkeypatch.setattr("splarn.core.cluster.joining.TIMEOUT", 0.5)
    for words in ("tcp://127.0.0.1:9", str(tmp_path / "scheduler.json")):
        with pytest.raises(OutsideError, match="No scheduler answers"):
            join(words)
    assert visiting.look()["splarn"]
    # A worker that knows nothing of a session says so, whatever it is asked.
    monkeypatch.setattr(distributed, "get_worker", lambda: None)
    import pickle

    told = carried_out(Sealed("none", pickle.dumps(([1, 2], (0, 0)))))
    assert told == [("unknown", None)] * 2
    assert repr(Sealed("none", b"quay")) == "sealed"
