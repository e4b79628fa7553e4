"""Benchmarks of a cluster: against the pools of this machine, and of one host against four."""

from __future__ import annotations

import json
import shutil
import socket
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from benchmarks.data import one_file
from benchmarks.far import far
from benchmarks.hosts import Hosts, able
from benchmarks.load import made_parts
from benchmarks.measure import Row, Timed, compare, run, splarn

POSTGRESQL = "postgresql://postgres@127.0.0.1:5432/postgres"
# A line so slow that one core is idle behind it, in bytes a second.
LINE = 4e6
PARTS = 10_000


def here(folder: Path, repeats: int, scale: float) -> list[Row]:
    """The same work by two workers of a cluster on this machine and by two of its own pool.

    The cluster is there before, as it is for whoever has one.
    """
    with standing(folder / "cluster", 2) as scheduler:
        return _here(folder, repeats, scale, scheduler)


def _here(folder: Path, repeats: int, scale: float, scheduler: str) -> list[Row]:
    path, layout = one_file(folder, 500e6 * scale)
    parts, _, size = made_parts(folder, scale)
    from benchmarks.load import loading

    rows = list[Row]()
    for what, words in (
        ("shape into zstd", ("--codec", "zstd:1", "--part-size", "16MiB")),
        ("shape into Parquet", ("--format", "parquet", "--part-size", "16MiB", "--rejects", "bad")),
    ):

        def shaped(*where: str, words: tuple[str, ...] = words) -> Callable[[], Timed]:
            def go() -> Timed:
                shutil.rmtree(folder / "out", ignore_errors=True)
                made = run(splarn("shape", path, "--layout", layout, "--into", folder / "out",
                                  "--workers", 2, *words, "--json", *where), folder)  # fmt: skip
                return _worked(made)

            return go

        rows += compare(f"{what}, two workers of a cluster here", "two of its own pool",
                        shaped("--cluster", scheduler), shaped(), repeats, 0.87,
                        path.stat().st_size)  # fmt: skip
    plain = loading(folder, parts, POSTGRESQL, 2)

    def far() -> Timed:
        return _worked(loading(folder, parts, POSTGRESQL, 2, more=("--cluster", scheduler))())

    rows += compare("load into PostgreSQL, two workers of a cluster here", "two of its own pool",
                    far, lambda: _worked(plain()), repeats, 0.87, size)  # fmt: skip
    return rows


@contextmanager
def standing(folder: Path, workers: int) -> Iterator[str]:
    """The address of a scheduler with so many workers of one thread, each a process."""
    folder.mkdir(parents=True, exist_ok=True)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        address = f"tcp://127.0.0.1:{free.getsockname()[1]}"
    plain = ("--host", "127.0.0.1", "--no-dashboard")
    begun = [_begin("scheduler", "--port", address.rpartition(":")[2], "--no-show", *plain)]
    try:
        for number in range(workers):
            begun.append(_begin(
                "worker", address, "--nthreads", 1, "--no-nanny", "--memory-limit", 0,
                "--local-directory", folder / str(number), *plain,
            ))  # fmt: skip
        from distributed import Client

        with Client(address, set_as_default=False, timeout=60) as client:
            client.wait_for_workers(workers, timeout=60)
        yield address
    finally:
        for process in begun:
            process.kill()
            process.wait()


def _begin(what: str, *words: object) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", f"distributed.cli.dask_{what}", *map(str, words)],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip


def _worked(timed: Timed) -> Timed:
    """By the work's own seconds: what a cluster's start takes is told by `overhead`."""
    from dataclasses import replace

    document = json.loads(timed.said.strip().splitlines()[-1])
    return replace(timed, seconds=float(document["seconds"]))


def overhead(folder: Path, repeats: int, scale: float) -> list[Row]:
    """What a part costs beside its work, and what joining does; said, since no ratio tells it."""
    from splarn.core.cluster.pool import Cluster
    from splarn.core.work.lanes import label_of

    count = int(PARTS * scale)
    for _ in range(min(repeats, 2)):
        joining = _clock()
        cluster = Cluster("local:2")
        joined = joining()
        try:
            working = _clock()
            done = sum(1 for _ in cluster.pool(None).as_done(label_of, range(count)))
            seconds = working()
        finally:
            cluster.close()
        print(
            f"{done:,} parts without work took {seconds:.1f} s on two workers, "
            f"{seconds / done * 1e3:.2f} ms a part; two workers were there after {joined:.1f} s.",
            file=sys.stderr,
        )
    return []


def _clock() -> Callable[[], float]:
    from time import perf_counter

    begun = perf_counter()
    return lambda: perf_counter() - begun


def hosts(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Shaping out of a store and shipping into it: four hosts whose lines hold them up, and one."""
    if not able():
        print("hosts: networks of one's own need the rights of root.", file=sys.stderr)
        return []
    path, layout = one_file(folder, 160e6 * scale)
    home = folder / "hosts"
    source = home / "store" / "source"
    source.mkdir(parents=True, exist_ok=True)
    shutil.copy(path, source / "passages.csv")
    several = _parted(path, home / "store" / "several")
    size = path.stat().st_size
    rows = list[Row]()
    with Hosts(home, 4, LINE) as four:
        where = ("--cluster", four.scheduler, "--json")

        def shaped(workers: int, *names: str) -> Callable[[], Timed]:
            places = [f"{four.store}/{name}" for name in names]

            def go() -> Timed:
                shutil.rmtree(home / "parts", ignore_errors=True)
                return _worked(run(splarn(
                    "shape", *places, "--layout", layout, "--into", home / "parts", "--part-size",
                    max(int(size / 32), 65536), "--workers", workers, *where,
                ), home))  # fmt: skip

            return go

        def shipped(streams: int) -> Callable[[], Timed]:
            def go() -> Timed:
                shutil.rmtree(home / "store" / "sent", ignore_errors=True)
                return _worked(run(splarn(
                    "ship", home / "parts", "--to", f"{four.store}/sent", "--streams", streams,
                    *where,
                ), home))  # fmt: skip

            return go

        line = f"lines of {LINE / 1e6:.0f} MB/s each"
        for what, names in (
            ("one file", ("source/passages.csv",)),
            (f"{len(several)} files", several),
        ):
            rows += compare(f"shape {what} out of a store, four hosts", f"one host, {line}",
                            shaped(4, *names), shaped(1, *names), repeats, 3.5,
                            size)  # fmt: skip
        rows += compare("ship into a store, four hosts", f"one host, {line}", shipped(4),
                        shipped(1), repeats, 3.5, size)  # fmt: skip
    return rows


def _parted(path: Path, into: Path, count: int = 16) -> tuple[str, ...]:
    """A file as several of about one size, each with its header; their names in the store."""
    into.mkdir(parents=True, exist_ok=True)
    header, *lines = path.read_bytes().splitlines(keepends=True)
    each = -(-len(lines) // count)
    for number in range(count):
        some = lines[number * each : (number + 1) * each]
        (into / f"passages-{number:02d}.csv").write_bytes(header + b"".join(some))
    return tuple(f"several/passages-{number:02d}.csv" for number in range(count))


CLUSTER: dict[str, Callable[[Path, int, float], Any]] = {
    "cluster": here,
    "overhead": overhead,
    "hosts": hosts,
    "far": far,
}
