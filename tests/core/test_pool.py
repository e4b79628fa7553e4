"""Pools: the same answers from one thread, several, or several processes, whatever happens."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import pytest

from splarn.core.errors import OutsideError, RequestError
from splarn.core.source import http
from splarn.core.work import interrupts
from splarn.core.work.activity import Activity
from splarn.core.work.feed import Feed, StoppedError
from splarn.core.work.lanes import report
from splarn.core.work.pool import Inline, Pool
from splarn.core.work.pools import Pools
from splarn.core.work.progress import Lane


class Counting:
    """A watcher that adds up what it is told."""

    def __init__(self) -> None:
        self.amount = 0.0
        self.told: list[list[Lane]] = []

    def lanes(self, lanes: Sequence[Lane]) -> None:
        self.told.append(list(lanes))

    def start(self, label: str, total: float | None, unit: str) -> None:
        self.amount = 0.0

    def advance(self, amount: float) -> None:
        self.amount += amount

    def finish(self) -> None:
        return None


def square(number: int) -> int:
    report(number)
    if number == 13:
        raise RequestError("thirteen is not done here.")
    if number == 666:
        os.kill(os.getpid(), signal.SIGKILL)
    time.sleep(0.01 if number % 3 else 0.03)
    return number * number


@pytest.fixture(params=["inline", "threads", "processes", "copies"])
def pool(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[Pool]:
    copies = request.param == "copies"
    if copies:
        # The threads of this process are those of the test runner, which hold no lock for long.
        monkeypatch.setattr(threading, "active_count", lambda: 1)
    with Pools(inherit=copies) as pools:
        made = {"inline": lambda: pools.of(1), "threads": lambda: pools.threads(3)}
        yield made.get(request.param, lambda: pools.of(2))()


def test_results_come_in_order_and_reports_arrive(pool: Pool) -> None:
    watch = Counting()
    assert list(pool.map(square, range(10), watch)) == [n * n for n in range(10)]
    assert watch.amount == sum(range(10))
    assert sorted(pool.as_done(square, range(10), watch)) == [(n, n * n) for n in range(10)]
    assert watch.amount == 2 * sum(range(10))


@dataclass(frozen=True)
class Part:
    """A task with a label."""

    label: str


def read_part(part: Part) -> str:
    for _ in range(5):
        report(100, 7)
        time.sleep(0.1)
    return part.label


def test_watchers_are_told_what_each_is_at(pool: Pool) -> None:
    parts = [Part(f"part-{number}") for number in range(4)]
    for _ in range(2):
        watch = Counting()
        done = dict(pool.as_done(read_part, parts, watch))
        assert done == {part: part.label for part in parts}
        assert watch.amount == 2000
        assert all(len(lanes) <= pool.workers for lanes in watch.told)
        labels = {lane.label for lanes in watch.told for lane in lanes}
        assert labels - {""} == {part.label for part in parts}
        most = watch.told[-1]
        assert 1500 <= sum(lane.amount for lane in most) <= 2000
        assert all(lane.rows == lane.amount * 7 / 100 for lane in most)


def test_an_error_comes_through_and_the_pool_lives_on(pool: Pool) -> None:
    with pytest.raises(RequestError, match="thirteen"):
        list(pool.map(square, [1, 13, 2]))
    with pytest.raises(RequestError, match="thirteen"):
        dict(pool.as_done(square, [13, 1]))
    assert list(pool.map(square, [3])) == [9]


def clients(_: int) -> int:
    return http._one_client.cache_info().currsize


def test_a_copy_uses_no_connection_of_the_process_that_it_is_a_copy_of(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(threading, "active_count", lambda: 1)
    http.http_client()
    assert clients(0) == 1
    with Pools(inherit=True) as pools:
        assert list(pools.of(2).map(clients, [0, 1])) == [0, 0]


def test_a_worker_that_is_killed_is_told_of() -> None:
    with Pools() as pools, pytest.raises(OutsideError, match="ended from outside"):
        list(pools.of(2).map(square, [1, 666, 2]))


def at_work(task: tuple[str, int]) -> int:
    """How many were at work when this one was, by files that each leaves while it is."""
    folder, number = task
    mine = Path(folder, str(number))
    mine.touch()
    time.sleep(0.05)
    count = sum(1 for _ in Path(folder).iterdir())
    mine.unlink()
    return 100 * number + count


def test_some_of_a_pools_workers_are_no_more_than_that_and_start_no_others(tmp_path: Path) -> None:
    with Pools() as pools:
        whole = pools.of(4)
        some = pools.of(2)
        assert (whole.workers, some.workers) == (4, 2)
        tasks = [(str(tmp_path), number) for number in range(12)]
        found = list(some.map(at_work, tasks))
        assert [one // 100 for one in found] == list(range(12))
        assert max(one % 100 for one in found) == 2
        done = dict(some.as_done(at_work, tasks))
        assert sorted(done) == tasks
        assert max(one % 100 for one in done.values()) <= 2
        assert max(one % 100 for one in whole.map(at_work, tasks)) > 2
        with pytest.raises(RequestError):
            list(some.map(square, [1, 13, 2]))
        assert list(some.map(square, [2, 3])) == [4, 9]


def test_one_worker_needs_no_other() -> None:
    with Pools() as pools:
        assert isinstance(pools.of(1), Inline)
        assert isinstance(pools.threads(1), Inline)
        assert pools.of(2) is pools.of(2)


@pytest.mark.parametrize("inherit", [False, True])
def test_workers_end_with_the_program_that_began_them(tmp_path: Path, inherit: bool) -> None:
    # Workers do not run the main script, so what they do is in a module.
    (tmp_path / "tasks.py").write_text(
        "import os, time\n"
        "def pid(_): time.sleep(0.01); return os.getpid()\n"
        "def stay(_): time.sleep(60)\n"
    )
    script = tmp_path / "main.py"
    script.write_text(
        "from splarn.core.work.processes import Processes\n"
        "from tasks import pid, stay\n"
        "if __name__ == '__main__':\n"
        f"    pool = Processes(3, {inherit})\n"
        "    print(*set(pool.map(pid, range(30))), flush=True)\n"
        "    list(pool.map(stay, [0, 1]))\n"
    )
    program = subprocess.Popen([sys.executable, str(script)], stdout=subprocess.PIPE, text=True)
    assert program.stdout is not None
    workers = [int(word) for word in program.stdout.readline().split()]
    assert len(workers) > 1
    program.kill()
    program.communicate()
    for _ in range(300):
        workers = [worker for worker in workers if is_alive(worker)]
        if not workers:
            return
        time.sleep(0.1)
    for worker in workers:
        os.kill(worker, signal.SIGKILL)
    pytest.fail("a worker outlived the program by half a minute")


def is_alive(process: int) -> bool:
    try:
        return ") Z " not in Path(f"/proc/{process}/stat").read_text()
    except OSError:
        return False


@pytest.mark.parametrize("workers", [1, 2])
def test_an_interrupt_that_a_library_swallowed_still_ends_the_work(workers: int) -> None:
    done: list[int] = []

    def work(number: int) -> int:
        if number == 3:
            # What a callback of a C library does with it.
            with contextlib.suppress(KeyboardInterrupt):
                interrupts._note(signal.SIGINT, None)
        return number

    with Pools() as pools:
        pool = pools.threads(workers)
        with pytest.raises(KeyboardInterrupt):
            for _, number in pool.as_done(work, list(range(1000))):
                done.append(number)
        assert len(done) < 500
        # It is over with that one.
        assert len(list(pool.map(abs, [1, 2, 3]))) == 3


@pytest.mark.parametrize("makers", [1, 4])
def test_items_that_come_while_others_are_worked_on_come_out_once(pool: Pool, makers: int) -> None:
    feed: Feed[int] = Feed(3)

    def make(first: int) -> None:
        for number in range(first, 100, makers):
            feed.put(number + 1000)

    threads = [threading.Thread(target=make, args=(first,)) for first in range(makers)]

    def close() -> None:
        for thread in threads:
            thread.join()
        feed.close()

    for thread in (*threads, threading.Thread(target=close)):
        thread.start()
    found = list(pool.as_fed(square, feed, lambda item: item + 1))
    assert sorted(item for item, _ in found) == list(range(1000, 1100))
    assert all(result == (item + 1) ** 2 for item, result in found)
    assert feed.most <= feed.room
    assert feed.over


def test_a_feed_tells_both_sides_when_the_other_has_given_up() -> None:
    feed: Feed[int] = Feed(1)
    feed.put(1)
    stopped: list[BaseException] = []

    def make() -> None:
        try:
            feed.put(2)
        except StoppedError as error:
            stopped.append(error)

    maker = threading.Thread(target=make)
    maker.start()
    feed.stop()
    maker.join(5)
    assert len(stopped) == 1
    other: Feed[int] = Feed(2)
    other.put(1)
    other.close(OutsideError("the disk is full."))
    for taken in (other.take, other.await_next):
        with pytest.raises(OutsideError, match="disk is full"):
            taken()
    failing: Feed[int] = Feed(2)
    threading.Timer(0.05, failing.close, (RequestError("no."),)).start()
    with pytest.raises(RequestError):
        list(Inline().as_fed(square, failing, lambda item: item))


def test_a_stage_is_at_work_while_one_of_its_workers_is() -> None:
    busy = Activity()
    started = threading.Barrier(2)

    def work(rests: float, first: float) -> None:
        with busy.working():
            started.wait()
            time.sleep(first)
            with busy.resting():
                time.sleep(rests)

    # One rests while the other works, then both do.
    threads = [threading.Thread(target=work, args=pair) for pair in ((0.3, 0.0), (0.2, 0.1))]
    begun = time.perf_counter()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    wall = time.perf_counter() - begun
    assert 0.1 <= busy.seconds < wall - 0.1
    with busy.working():
        time.sleep(0.01)
    assert busy.seconds >= 0.11
