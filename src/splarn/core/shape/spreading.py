"""One packed file over workers that have no memory in common: unpacked once, its pieces spread.

A worker reads the file from its start and writes the records of each cut into a file of the parts'
folder, with where they stand; others make parts of these. Only so many wait at a time.
"""

from __future__ import annotations

import json
import secrets
import threading
import time
from collections.abc import Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from splarn.core.records.chunks import Chunk, Records
from splarn.core.shape.cutting import Cutting
from splarn.core.shape.slices import Slice
from splarn.core.shape.task import Cut, ShapeTask
from splarn.core.source.content import Identity
from splarn.core.work.disk import ASIDE, outside
from splarn.core.work.feed import Feed
from splarn.core.work.pool import Inline, Pool
from splarn.core.work.progress import Progress

# How often it is looked for pieces, and for how long one who unpacks waits without any being taken,
# in seconds: where nobody else is at work it must go on.
LOOK_EVERY, PATIENCE = 0.05, 20.0
POSITION = np.dtype("<i8")


@dataclass(frozen=True)
class UnpackTask:
    """A file to be unpacked into pieces that have a `token` in their names; picklable.

    So many of them may wait.
    """

    task: ShapeTask
    token: str
    most: int


@dataclass(frozen=True)
class PieceTask:
    """A piece of which a cut is to be made; picklable."""

    task: ShapeTask
    path: Path


@dataclass(frozen=True)
class Piece:
    """The records of one cut, and what is known of the source up to there.

    `following` is what comes behind it, without its records. `lines`, `begun`, `before` and
    `contents` are as in Cutting.
    """

    slices: tuple[Slice, ...]
    following: Slice | None
    lines: dict[int, int]
    begun: tuple[int, ...]
    before: dict[int, tuple[int, int] | None]
    contents: tuple[tuple[str, Identity], ...]


def spread(task: ShapeTask, pool: Pool, watch: Progress) -> Iterator[Cut]:
    """The cuts of one packed source in order. Raises what `run_shape_task` raises."""
    token = secrets.token_hex(4)
    feed: Feed[Path] = Feed(1 << 30)
    over = threading.Event()
    looker = threading.Thread(target=_look, args=(task, token, feed, over), daemon=True)
    unpacked: list[int] = []

    def unpack() -> None:
        try:
            unpacked.extend(
                pool.map(run_unpack, [UnpackTask(task, token, 2 * pool.workers)], watch)
            )
        except BaseException as error:
            feed.close(error)
        finally:
            over.set()

    unpacker = threading.Thread(target=unpack, daemon=True)
    unpacker.start()
    looker.start()
    first = len(task.done) + 1
    found: dict[int, Cut] = {}
    try:
        for path, cut in pool.as_fed(run_piece, feed, lambda path: PieceTask(task, path)):
            found[_number(path)] = cut
            path.unlink(missing_ok=True)
            while first in found:
                yield found.pop(first)
                first += 1
    finally:
        over.set()
        feed.stop()
        for path in task.folder.glob(f"*.{token}{ASIDE}"):
            path.unlink(missing_ok=True)


def _look(task: ShapeTask, token: str, feed: Feed[Path], over: threading.Event) -> None:
    """Hands pieces on, in order, as they come to lie in the folder."""
    following, last = len(task.done) + 1, False
    while not feed.stopped:
        # Looked at before, so that what came until then is found.
        last = over.is_set()
        while (path := _path(task, following, token)).exists():
            feed.put(path)
            following += 1
        if last:
            feed.close()
            return
        time.sleep(LOOK_EVERY)


def _path(task: ShapeTask, cut: int, token: str) -> Path:
    return task.folder / f"{task.stem}-{cut:04d}.{token}{ASIDE}"


def _number(path: Path) -> int:
    return int(path.name.partition(".")[0].rpartition("-")[2])


def run_unpack(task: UnpackTask) -> int:
    """Writes the pieces of a source; how many there are. Raises OutsideError, RequestError."""
    written = 0
    cutting = Cutting(task.task, Inline())
    held: list[Slice] = []
    for one in cutting.slices():
        if held and held[-1].cut != one.cut:
            _write(task, cutting, held, replace(one, chunk=None))
            held, written = [], written + 1
        held.append(one)
    if held:
        _write(task, cutting, held, None)
        written += 1
    return written


def _write(task: UnpackTask, cutting: Cutting, held: list[Slice], following: Slice | None) -> None:
    path = _path(task.task, held[0].cut, task.token)
    _await_room(task)
    bare = path.name.removesuffix(ASIDE)
    temporary = path.with_name(f"{bare}.{secrets.token_hex(3)}{ASIDE}")
    piece = Piece(tuple(held), following, *cutting.stand())
    with outside(f"Writing {path}"):
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with temporary.open("wb") as file:
                for data in _as_bytes(piece):
                    file.write(data)
            temporary.replace(path)
        finally:
            temporary.unlink(missing_ok=True)
    cutting.passed(held)


def _await_room(task: UnpackTask) -> None:
    """Waits until others have made parts of what lies there, as long as any of it is taken."""
    known, since = -1, time.monotonic()
    while True:
        there = sum(1 for _ in task.task.folder.glob(f"*.{task.token}{ASIDE}"))
        if there < task.most or time.monotonic() - since > PATIENCE:
            return
        if there != known:
            known, since = there, time.monotonic()
        time.sleep(LOOK_EVERY)


def run_piece(task: PieceTask) -> Cut:
    """Makes the parts of one piece. Raises what `run_shape_task` raises."""
    with outside(f"Reading {task.path}"):
        piece = _read(task.path.read_bytes())
    cutting = Cutting(task.task, Inline())
    cutting.take_up(piece.lines, piece.begun, piece.before, piece.contents)
    return cutting.cut_of(piece.slices, piece.following)


def _as_bytes(piece: Piece) -> Iterator[bytes]:
    """A piece as it lies in a file: what is known of it as JSON, then the records' bytes."""
    slices: list[dict[str, Any]] = []
    blobs: list[bytes] = []
    for one in piece.slices:
        chunk = one.chunk
        assert chunk is not None, "a packed source is text"
        marks = [np.asarray(at, dtype=POSITION).tobytes() for at in (chunk.starts, chunk.ends)]
        blobs += [bytes(chunk.data), *marks]
        slices.append(
            {
                "slice": [one.cut, one.index, one.at, one.row, one.line, one.rows],
                "chunk": [
                    chunk.offset, chunk.row, chunk.line, chunk.stray, chunk.open_quote,
                    chunk.too_long,
                ],
                "bytes": [len(blob) for blob in blobs[-3:]],
            }
        )  # fmt: skip
    after = piece.following
    known = {
        "slices": slices,
        "following": None if after is None else [
            after.cut, after.index, after.at, after.row, after.line, after.rows
        ],
        "lines": list(piece.lines.items()),
        "begun": list(piece.begun),
        "before": list(piece.before.items()),
        "contents": [[path, asdict(one)] for path, one in piece.contents],
    }  # fmt: skip
    head = json.dumps(known).encode()
    yield len(head).to_bytes(8, "little")
    yield head
    yield from blobs


def _read(data: bytes) -> Piece:
    """The reverse of `_as_bytes`."""
    end = 8 + int.from_bytes(data[:8], "little")
    known, at = json.loads(data[8:end]), end
    slices = []
    for one in known["slices"]:
        parts = []
        for size in one["bytes"]:
            parts.append(data[at : at + size])
            at += size
        starts, ends = (np.frombuffer(part, dtype=POSITION).astype(np.int64) for part in parts[1:])
        offset, row, line, stray, open_quote, too_long = one["chunk"]
        chunk = Chunk(
            parts[0], Records.at(starts, ends), offset, row, line, stray, open_quote, too_long
        )
        cut, index, begins, before, above, rows = one["slice"]
        slices.append(Slice(cut, index, begins, before, above, rows, chunk))
    after = known["following"]
    return Piece(
        tuple(slices),
        None if after is None else Slice(*after),
        {int(index): lines for index, lines in known["lines"]},
        tuple(known["begun"]),
        {int(index): None if told is None else tuple(told) for index, told in known["before"]},
        tuple((path, Identity(**one)) for path, one in known["contents"]),
    )
