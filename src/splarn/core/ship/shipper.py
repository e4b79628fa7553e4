"""The shipper: streams that send files, wait when asked to, try again, and prove what arrived."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path, PurePosixPath

from splarn.core.errors import RequestError
from splarn.core.files import outside
from splarn.core.lanes import report
from splarn.core.places import Place
from splarn.core.pool import Pool
from splarn.core.prices import Usage
from splarn.core.progress import Progress, Silent
from splarn.core.ship.content import blocks_of, digest_of
from splarn.core.ship.depot import Depot, Stored, Unready
from splarn.core.ship.trying import Trying


@dataclass(frozen=True)
class ShipRequest:
    """What to send where. `template` makes a file's name in the depot.

    It may hold `{name}`, `{stem}`, `{run}` and `{date:%Y/%m/%d}`. With `delete_after` a source is
    removed once it is proven to have arrived.
    """

    sources: tuple[Place, ...]
    depot: Depot
    template: str = "{name}"
    run: str = ""
    date: datetime = field(default_factory=datetime.now)
    delete_after: bool = False


@dataclass(frozen=True)
class Sent:
    """What became of one file. `kept` says that it was there already; times are in seconds."""

    source: str
    name: str
    bytes: int
    digest: str
    kept: bool
    seconds: float
    requests: int
    retries: int
    throttled: float
    stream: int


@dataclass(frozen=True)
class ShipRecord:
    """What a shipment took. `throttled` are seconds that streams waited because they were asked."""

    place: str
    files: tuple[Sent, ...]
    seconds: float
    remote: bool = True

    @property
    def bytes_sent(self) -> int:
        """Bytes of the files that were not there already."""
        return sum(one.bytes for one in self.files if not one.kept)

    @property
    def requests(self) -> int:
        """Times that the depot was asked for something."""
        return sum(one.requests for one in self.files)

    @property
    def retries(self) -> int:
        """Tries after the first of each file."""
        return sum(one.retries for one in self.files)

    @property
    def throttled(self) -> float:
        """Seconds that streams waited because they were asked to, all together."""
        return sum(one.throttled for one in self.files)

    def usage(self) -> Usage:
        """What the shipment used; files that were there already are stored all the same."""
        stored = sum(one.bytes for one in self.files)
        if not self.remote:
            return Usage(machine=self.seconds, stored=stored)
        return Usage(
            machine=self.seconds, stored=stored, requests=self.requests, moved=self.bytes_sent
        )

    def streams(self) -> dict[int, float]:
        """Bytes a second of each stream while it was at work."""
        found: dict[int, list[float]] = {}
        for one in self.files:
            sums = found.setdefault(one.stream, [0.0, 0.0])
            sums[0] += 0 if one.kept else one.bytes
            sums[1] += one.seconds
        return {stream: size / max(spent, 1e-9) for stream, (size, spent) in sorted(found.items())}


@dataclass(frozen=True)
class _Task:
    source: Place
    name: str
    depot: Depot
    streams: dict[int, int]
    delete_after: bool
    pause: Callable[[float], None]

    @property
    def label(self) -> str:
        """What a watcher is told."""
        return self.source.name


def ship(
    request: ShipRequest,
    pool: Pool,
    *,
    progress: Progress | None = None,
    pause: Callable[[float], None] = time.sleep,
) -> ShipRecord:
    """Sends every source that is not in the depot yet; streams are the pool's threads.

    The same call after a break sends only what did not arrive whole.
    Raises RequestError for a template that is none or gives two files one name, OutsideError when a
    file cannot be read or sent.
    """
    watch = progress or Silent()
    begun = time.perf_counter()
    names = [name_of(request, source) for source in request.sources]
    taken: dict[str, Place] = {}
    for name, source in zip(names, request.sources, strict=True):
        if name in taken:
            raise RequestError(
                f"{source} and {taken[name]} would both be {name} in the depot: give a --as with "
                "more of {name} in it, or ship them apart."
            )
        taken[name] = source
    with outside("Looking at the files to ship"):
        total = sum(source.stat().st_size for source in request.sources)
    streams: dict[int, int] = {}
    tasks = [
        _Task(source, name, request.depot, streams, request.delete_after, pause)
        for name, source in taken.items()
    ]
    watch.start("ship", total, "bytes")
    done: dict[str, Sent] = {}
    for task, sent in pool.as_done(_send, tasks, watch):
        done[task.name] = sent
    watch.finish()
    files = tuple(done[name] for name in names)
    return ShipRecord(request.depot.place, files, time.perf_counter() - begun, request.depot.remote)


def name_of(request: ShipRequest, source: Place) -> str:
    """A file's name in the depot. Raises RequestError when the template makes none."""
    stem = source.name.partition(".")[0]
    try:
        name = request.template.format(
            name=source.name, stem=stem, run=request.run, date=request.date
        )
    except (KeyError, IndexError, ValueError, AttributeError) as error:
        raise RequestError(
            f"The name {request.template!r} cannot be filled in ({error}): use {{name}}, {{stem}}, "
            "{run} and {date:%Y/%m/%d}."
        ) from None
    path = PurePosixPath(name)
    if path.is_absolute() or ".." in path.parts or not path.name:
        raise RequestError(
            f"The name {request.template!r} makes {name!r}, which is no place below the depot."
        )
    return str(path)


def _send(task: _Task) -> Sent:
    stream = task.streams.setdefault(threading.get_ident(), len(task.streams) + 1)
    begun = time.perf_counter()
    with outside(f"Reading {task.source}"):
        size = task.source.stat().st_size
        digest, _ = digest_of(blocks_of(task.source))
    trying = Trying(task.depot.place, task.name, task.pause)
    stored = trying.until_ready(lambda: task.depot.find(task.name))
    kept = stored is not None and (stored.size, stored.digest) == (size, digest)
    if not kept:
        stored = trying.until_ready(lambda: _put(task, size, digest))
    report(size)
    if task.delete_after and isinstance(task.source, Path):
        with outside(f"Removing {task.source}"):
            task.source.unlink()
    return Sent(
        str(task.source),
        task.name,
        size,
        digest,
        kept,
        time.perf_counter() - begun,
        trying.requests,
        trying.retries,
        trying.throttled,
        stream,
    )


def _put(task: _Task, size: int, digest: str) -> Stored:
    stored = task.depot.put(task.name, blocks_of(task.source), size, digest)
    if (stored.size, stored.digest) != (size, digest):
        raise Unready(f"what arrived of {task.name} is not what was sent")
    return stored


def sources_of(paths: Sequence[Place]) -> tuple[Place, ...]:
    """The files to ship, each once."""
    return tuple(dict.fromkeys(paths))
