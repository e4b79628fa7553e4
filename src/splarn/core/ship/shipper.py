"""The shipper: streams that send files, wait when asked to, try again, and prove what arrived."""

from __future__ import annotations

import hashlib
import os
import platform
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath

from splarn.core.errors import OutsideError, RequestError
from splarn.core.ship.content import blocks_of, digest_of
from splarn.core.ship.depot import Depot, Stored
from splarn.core.ship.gone import Gone, arrived
from splarn.core.ship.origin import DepotOrigin, FileOrigin, Origin
from splarn.core.ship.ranges import cut
from splarn.core.ship.record import Sent, ShipRecord, Turn
from splarn.core.source.files import LEAVING
from splarn.core.source.places import Place, key_of
from splarn.core.source.retry import Trying, Unready
from splarn.core.source.source import look
from splarn.core.work.disk import outside
from splarn.core.work.lanes import report
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress, Silent

# Files beyond so many bytes go in ranges of that size where the depot takes them.
RANGE = 32 << 20
# How often the ranges of a file are sent when they have not become what was sent.
ROUNDS = 3


@dataclass(frozen=True)
class ShipRequest:
    """What to send where. `template` makes a file's name in the depot.

    It may hold `{name}`, `{stem}`, `{run}` and `{date:%Y/%m/%d}`. With `delete_after` a source is
    removed once it is proven to have arrived. Files larger than `range_size` bytes go in such
    ranges. `origin` gives the depot that a remote source lies in, and its name there; without it
    sources are read as files are. `gone` are files that an earlier shipment may have removed: they
    must be in the depot already.
    """

    sources: tuple[Place, ...]
    depot: Depot
    template: str = "{name}"
    run: str = ""
    date: datetime = field(default_factory=lambda: datetime.now(UTC))
    delete_after: bool = False
    range_size: int = RANGE
    origin: Callable[[str], tuple[Depot, str]] | None = None
    gone: tuple[Gone, ...] = ()


@dataclass(frozen=True)
class _Task:
    """One file for one stream; with `span` only that range of it, whose content is known."""

    request: ShipRequest
    source: Place
    name: str
    streams: dict[int, int] | None
    pause: Callable[[float], None]
    span: tuple[int, int] | None = None
    size: int = 0
    digest: str = ""

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

    Large files go in ranges, several streams at once, where the depot takes those. The same call
    after a break sends only what did not arrive whole.
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
    if request.delete_after:
        _refuse_itself(request, taken)
    there = [arrived(request.depot, name_of(request, g.source), g, pause) for g in request.gone]
    with outside("Looking at the files to ship"):
        total = sum(source.stat().st_size for source in request.sources)
    if pool.apart and not request.depot.remote:
        # What has arrived of a file in a folder is known only to the process that put it there.
        request = replace(request, range_size=max(total, request.range_size))
    streams: dict[int, int] | None = None if pool.apart else {}
    tasks = [_Task(request, source, name, streams, pause) for name, source in taken.items()]
    watch.start("ship", total, "bytes")
    done: dict[str, Sent] = {}
    large: list[_Task] = []
    for task, sent in pool.as_done(_send, tasks, watch):
        done[task.name] = sent
        if sent.left:
            large += [replace(task, span=s, size=sent.bytes, digest=sent.digest) for s in sent.left]
    names_of_large = list(dict.fromkeys(task.name for task in large))
    for _ in range(ROUNDS):
        for task, turn in pool.as_done(_send_range, large, watch):
            done[task.name] = done[task.name].plus(turn)
        large = [task for name in names_of_large for task in _missing(request, large, name)]
        if not large:
            break
    for name in names_of_large:
        done[name] = _proven(request, taken[name], done[name], pause)
    watch.finish()
    files = (*there, *_numbered([done[name] for name in names]))
    seconds = time.perf_counter() - begun
    return ShipRecord(request.depot.place, files, seconds, request.depot.remote)


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
    """Sends a file, or finds out which ranges of it are to be sent."""
    request, stream, begun = task.request, _stream(task), time.perf_counter()
    depot, source = request.depot, _origin(task)
    trying = Trying(depot.place, task.name, task.pause)
    size, digest = source.known(trying)
    stored = trying.until_ready(lambda: depot.find(task.name))
    kept = stored is not None and (stored.size, stored.digest) == (size, digest)
    left: tuple[tuple[int, int], ...] = ()
    if not kept and size > request.range_size and trying.until_ready(depot.ranged):
        held = trying.until_ready(lambda: depot.held(task.name, size, digest))
        spans = cut(size, request.range_size)
        left = tuple(span for span in spans if not _within(span, held))
        report(size - sum(end - first for first, end in left))
    else:
        if not kept:
            trying.until_ready(lambda: _put(task, source, size, digest))
        report(size)
    source.check()
    sent = 0 if kept or left else size
    turn = _turn(stream, sent, begun, trying)
    sent_file = Sent(str(task.source), task.name, size, digest, kept, (turn,), left)
    if not left:
        _after(request, task.source, sent_file)
    return sent_file


def _send_range(task: _Task) -> Turn:
    stream, begun = _stream(task), time.perf_counter()
    depot, source = task.request.depot, _origin(task)
    trying = Trying(depot.place, task.name, task.pause)
    span = task.span or (0, task.size)

    def put() -> None:
        blocks = source.blocks(*span)
        try:
            depot.put_range(task.name, blocks, span, task.size, task.digest)
        except Unready:
            source.check()
            raise

    trying.until_ready(put)
    report(span[1] - span[0])
    return _turn(stream, span[1] - span[0], begun, trying)


def _turn(stream: int, size: int, begun: float, trying: Trying) -> Turn:
    spent = time.perf_counter() - begun
    return Turn(stream, size, spent, trying.requests, trying.retries, trying.throttled)


def _missing(request: ShipRequest, sent: list[_Task], name: str) -> list[_Task]:
    """Tasks for the ranges of a file that turned out to be another when all were there."""
    tasks = [task for task in sent if task.name == name]
    if not tasks:
        return []
    size, digest, depot = tasks[0].size, tasks[0].digest, request.depot
    trying = Trying(depot.place, name, tasks[0].pause)
    stored = trying.until_ready(lambda: depot.find(name))
    if stored is not None and (stored.size, stored.digest) == (size, digest):
        return []
    held = trying.until_ready(lambda: depot.held(name, size, digest))
    spans = [span for span in cut(size, request.range_size) if not _within(span, held)]
    return [replace(tasks[0], span=span) for span in spans]


def _proven(
    request: ShipRequest, source: Place, sent: Sent, pause: Callable[[float], None]
) -> Sent:
    """Asks for a file whose ranges have all arrived. Raises OutsideError when it is another."""
    trying = Trying(request.depot.place, sent.name, pause)
    stored = trying.until_ready(lambda: request.depot.find(sent.name))
    if stored is None or (stored.size, stored.digest) != (sent.bytes, sent.digest):
        raise OutsideError(
            f"The ranges of {sent.name} did not make up what was sent in {request.depot.place}: "
            "run the same command again."
        )
    done = replace(sent, left=())
    _after(request, source, done)
    return done


def _put(task: _Task, source: Origin, size: int, digest: str) -> Stored:
    try:
        stored = task.request.depot.put(task.name, source.blocks(0, size), size, digest)
    except Unready:
        # Trying again helps only while there is the same to send.
        source.check()
        raise
    if (stored.size, stored.digest) != (size, digest):
        raise Unready(f"what arrived of {task.name} is not what was sent")
    return stored


def _numbered(files: Sequence[Sent]) -> list[Sent]:
    """With streams counted from 1, whatever machines they were on."""
    numbers: dict[int, int] = {}
    return [
        replace(
            one,
            turns=tuple(
                replace(turn, stream=numbers.setdefault(turn.stream, len(numbers) + 1))
                for turn in one.turns
            ),
        )
        for one in files
    ]


def _stream(task: _Task) -> int:
    if task.streams is None:
        # Nothing is shared with other workers, so that this one names itself.
        named = f"{platform.node()} {os.getpid()} {threading.get_ident()}"
        return int.from_bytes(hashlib.sha256(named.encode()).digest()[:6], "big")
    return task.streams.setdefault(threading.get_ident(), len(task.streams) + 1)


def _origin(task: _Task) -> Origin:
    if isinstance(task.source, Path) or task.request.origin is None:
        return FileOrigin(task.source)
    return DepotOrigin(*task.request.origin(key_of(task.source)))


def _refuse_itself(request: ShipRequest, taken: dict[str, Place]) -> None:
    """Raises RequestError for a source that is the depot's own file, by whatever path."""
    for name, source in taken.items():
        if request.depot.holds(name, source):
            raise RequestError(
                f"{source} is itself the file {name} of {request.depot.place}, so nothing would be "
                "left of it: ship it somewhere else, or leave out --sent delete."
            )


def _within(span: tuple[int, int], held: Sequence[tuple[int, int]]) -> bool:
    return any(first <= span[0] and span[1] <= end for first, end in held)


def _after(request: ShipRequest, source: Place, sent: Sent) -> None:
    """Removes a source whose copy was read back from where it lies, and which is still the same."""
    if not request.delete_after:
        return
    if isinstance(source, Path):
        _remove(request.depot, source, sent)
        return
    if request.origin is None:
        return
    depot, name = request.origin(key_of(source))
    _read_back(request.depot, sent)
    trying = Trying(depot.place, name)
    stored = trying.until_ready(lambda: depot.find(name))
    if stored is None or (stored.size, stored.digest) != (sent.bytes, sent.digest):
        raise _changed(source)
    trying.until_ready(lambda: depot.delete(name))
    try:
        _read_back(request.depot, sent)
    except OutsideError:
        raise OutsideError(
            f"{sent.name} left {request.depot.place} when {source} was removed, so both were one "
            "file: bring it back from where it came."
        ) from None


def _remove(depot: Depot, source: Path, sent: Sent) -> None:
    """Moves the source aside, looks whether the copy is still there without it, then removes it.

    However the depot is reached, a copy that goes with its source was none.
    """
    temporary = source.with_name(source.name + LEAVING)
    with outside(f"Removing {source}"):
        source.rename(temporary)
    try:
        with outside(f"Reading {temporary}"):
            before = look(temporary)
            digest, size = digest_of(blocks_of(temporary))
        if (size, digest) != (sent.bytes, sent.digest):
            raise _changed(source)
        _read_back(depot, sent)
        if look(temporary) != before:
            raise _changed(source)
        with outside(f"Removing {source}"):
            temporary.unlink()
    except BaseException:
        with suppress(OSError):
            if temporary.exists() and not source.exists():
                temporary.rename(source)
        raise


def _changed(source: Place) -> OutsideError:
    return OutsideError(
        f"{source} was changed while it was on its way, so it was kept: run the same command again "
        "to send it as it is now."
    )


def _read_back(depot: Depot, sent: Sent) -> None:
    """Reads a copy in its depot to the end. Raises OutsideError when it is not what was sent."""

    def read() -> tuple[str, int]:
        return digest_of(depot.get(sent.name))

    try:
        digest, size = Trying(depot.place, sent.name).until_ready(read)
    except OutsideError as error:
        raise OutsideError(
            f"{sent.source} was kept, since its copy in {depot.place} could not be read back: "
            f"{error}"
        ) from None
    if (size, digest) != (sent.bytes, sent.digest):
        raise OutsideError(
            f"{sent.source} was kept, since what {depot.place} has as {sent.name} is not what was "
            "sent: run the same command again."
        )
