"""Source: one file as it is read, known once, that hashes what passes and notices a change."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.core.errors import OutsideError, RequestError
from splarn.core.records.chunks import record_chunks
from splarn.core.records.scanning import BOM
from splarn.core.source import leaves
from splarn.core.source.archives import Member
from splarn.core.source.codecs import detect_codec, head_of, read_blocks
from splarn.core.source.content import Identity, Reading, identity_of
from splarn.core.source.files import content_hash, kind_of
from splarn.core.source.json_values import form_of_json
from splarn.core.source.leaves import LEAF, Leaves, Stretch
from splarn.core.source.places import Place, open_place
from splarn.core.work.disk import outside

if TYPE_CHECKING:
    from splarn.core.layout import Dialect, Layout
    from splarn.core.work.pool import Pool

# Unpacked bytes in which the header is looked for, and packed ones that tell codec and format.
LOOK = 1 << 20
HEAD = 4096
PARQUET_MARK = b"PAR1"
# What one worker reads of a large file to tell what it is.
STRIP = 64 * LEAF


@dataclass(frozen=True)
class Source:
    """One file, as it was when it was first looked at.

    `stamp` is device, inode and time of the last change in nanoseconds; device and inode are 0 for
    a remote file. `format` is what `head`, the first unpacked bytes, speaks of: csv, jsonl or
    parquet.
    """

    place: Place
    size: int
    stamp: tuple[int, int, int]
    codec: str
    format: str
    head: bytes = field(default=b"", repr=False, compare=False)

    @classmethod
    def of(cls, place: Place) -> Source:
        """Looks at a file.

        Raises RequestError for what is no plain file, OutsideError when it cannot be read.
        """
        source, _ = cls.opened(place)
        if not source.head and source.size and source.packing != "none":
            # Says what is wrong with it.
            head_of(place, source.codec, HEAD)
        return source

    @classmethod
    def opened(cls, place: Place, first: int = HEAD) -> tuple[Source, bytes]:
        """A file and so many of its first bytes, as they are on disk, in one look.

        The head of one that is damaged is empty.
        Raises RequestError for what is no plain file, OutsideError when it cannot be read.
        """
        size, stamp, packed = _look_into(place, first)
        codec = detect_codec(packed)
        head = packed[:HEAD]
        if codec != "none":
            try:
                head = head_of(place, codec, HEAD)
            except OutsideError:
                head = b""
        kind = format_of(head)
        if kind == "jsonl" and (form := form_of_json(head.removeprefix(BOM))) not in (
            None,
            "lines",
        ):
            codec = f"{codec}+json={form}"
        if isinstance(place, Member) and kind != "parquet":
            # An archive gives its members from their start on.
            codec = codec.replace(codec.partition("+")[0], f"{codec.partition('+')[0]}+flow", 1)
        return cls(place, size, stamp, codec, kind, head), packed

    def read_by(self, layout: Layout) -> Source:
        """The same, its codec followed by the forms that the layout has its text given."""
        forms = layout.forms
        own = [one for one in self.codec.split("+")[1:] if one.startswith(("flow", "json"))]
        return replace(self, codec="+".join((self.packing, *own, *forms)))

    @property
    def packing(self) -> str:
        """How the file is packed, whatever form its text has."""
        return self.codec.partition("+")[0]

    @property
    def modified(self) -> float:
        """The last change in seconds since 1970."""
        return self.stamp[2] / 1e9

    @property
    def name(self) -> str:
        """The file's name without its folder."""
        return self.place.name

    def __str__(self) -> str:
        return str(self.place)

    def blocks(self, start: int = 0, end: int | None = None) -> Iterator[bytes]:
        """Unpacked blocks. Raises OutsideError as `read_blocks` does."""
        return read_blocks(self.place, self.codec, start, end)

    def first_record(self, dialect: Dialect) -> int:
        """Where the records begin: unpacked bytes of the mark, the header and blank lines."""
        head = head_of(self.place, self.codec, LOOK)
        return first_record(head, dialect, str(self.place))

    def identity(self, layout: Layout, whole: bool = True) -> Identity:
        """What tells these records from others, by the XXH3-128 of their unpacked bytes' leaves.

        They count from the first record on; of a columnar file all its bytes do. Unless the whole
        is wanted, no more is read than the first ones, which are all of a small file.
        Raises OutsideError when the file changes meanwhile or cannot be read.
        """
        if layout.format == "parquet":
            known = _identity_of(Reading(0), read_blocks(self.place, "none"), True)
        else:
            reading = Reading(self.first_record(layout.dialect))
            known = _identity_of(reading, self.blocks(), whole)
        self.check_unchanged()
        return known

    def check_unchanged(self) -> None:
        """Raises OutsideError when the file is no longer what it was."""
        size, stamp = look(self.place)
        if (size, stamp) != (self.size, self.stamp):
            change = (
                "has been changed"
                if size == self.size
                else (f"had {self.size:,} bytes and has {size:,} now")
            )
            raise OutsideError(
                f"{self.place} {change} while it was read: wait until it is delivered whole, then "
                "run the same command again."
            )


@dataclass(frozen=True)
class Identify:
    """A source whose content is to be known; picklable."""

    source: Source
    layout: Layout
    whole: bool = True


def identified(task: Identify) -> Identity:
    """See Source.identity."""
    return task.source.identity(task.layout, task.whole)


@dataclass(frozen=True)
class Strip:
    """A stretch of a plain file whose records begin at `skip`; picklable."""

    source: Source
    skip: int
    start: int
    end: int | None


def hashed(task: Strip) -> Stretch:
    """Its leaves. Raises OutsideError when the file changes meanwhile or cannot be read."""
    passing = Leaves(task.start - task.skip)
    for block in read_blocks(task.source.place, "none", task.start, task.end):
        passing.update(block)
    task.source.check_unchanged()
    return passing.stretch(task.end is None)


def identify(sources: Sequence[Source], layout: Layout, pool: Pool) -> Iterator[Identity]:
    """Each source's identity in turn, large plain files read by many.

    Raises OutsideError as Source.identity does.
    """
    tasks: list[Identify | Strip] = []
    for one in sources:
        if one.codec != "none" or one.size <= STRIP or isinstance(one.place, Member):
            tasks.append(Identify(one, layout))
            continue
        skip = 0 if layout.format == "parquet" else one.first_record(layout.dialect)
        edges = [*range(skip, one.size, STRIP), None]
        tasks += [Strip(one, skip, start or 0, end) for start, end in pairwise(edges)]
    held: list[Stretch] = []
    for task, found in zip(tasks, pool.map(_look_at, tasks), strict=True):
        if isinstance(found, Identity):
            yield found
            continue
        held.append(found)
        if found.ends:
            known = identity_of(held)
            assert known is not None, f"{task.source} is read in strips that meet"
            yield known
            held = []


def _look_at(task: Identify | Strip) -> Identity | Stretch:
    return identified(task) if isinstance(task, Identify) else hashed(task)


def _identity_of(reading: Reading, blocks: Iterator[bytes], whole: bool) -> Identity:
    for block in blocks:
        reading.unpacked(block)
        if reading.bytes > leaves.FIRST and not whole:
            return Identity(reading.begins)
    return reading.identity


class Proof:
    """Holds what is read of a source, from its start to its end, against what it was said to be.

    `packed_hash` is what its bytes on disk must have, empty where nothing tells.
    """

    def __init__(
        self, source: Source, layout: Layout, content: Identity, packed_hash: str = ""
    ) -> None:
        self.source, self.content, self.packed_hash = source, content, packed_hash
        self._columnar = layout.format == "parquet"
        # A file here is looked at before anything of it is used; one behind a line as it passes,
        # and pages of a columnar one come in any order.
        near = isinstance(source.place, Path)
        if packed_hash and (near or self._columnar) and content_hash(source.place) != packed_hash:
            raise self._other()
        if not self._columnar:
            self._reading = Reading(source.first_record(layout.dialect))
            self._packed = Reading(0)

    def read(self, path: Place, codec: str, start: int, end: int | None) -> Iterator[bytes]:
        """Stands in for `read_blocks`."""
        for block in read_blocks(path, codec, start, end, passing=self._packed.unpacked):
            self._reading.unpacked(block)
            yield block

    def check(self) -> Identity:
        """What it is, to be asked for when all is read.

        Raises OutsideError when it was to be something else.
        """
        self.source.check_unchanged()
        if self._columnar:
            return self.content
        if self.packed_hash and self._packed.flat != self.packed_hash:
            raise self._other()
        passed, wanted = self._reading.identity, self.content
        # An earlier manifest tells only what the bytes on disk are.
        if passed.same(wanted) is False and wanted.whole != self.packed_hash:
            raise self._other()
        return replace(passed, whole=wanted.whole or passed.whole)

    def _other(self) -> OutsideError:
        origin = "listed in its manifest" if self.packed_hash else "looked at first"
        return OutsideError(
            f"{self.source.place} does not hold the bytes that were {origin}: it was changed or "
            "damaged on its way; bring back the right one, then run the same command again."
        )


def first_record(head: bytes, dialect: Dialect, where: str) -> int:
    """Where the records begin in a file's first unpacked bytes; its end where there are none."""
    chunk = next(iter(record_chunks([head], dialect, where=where)), None)
    return len(head) if chunk is None else chunk.offset + int(chunk.starts[0])


def format_of(head: bytes) -> str:
    """The format that a file's first unpacked bytes speak of: csv, jsonl or parquet."""
    if head.startswith(PARQUET_MARK):
        return "parquet"
    return "jsonl" if form_of_json(head.removeprefix(BOM)) is not None else "csv"


def look(place: Place) -> tuple[int, tuple[int, int, int]]:
    """Size and stamp of a file.

    Raises RequestError for what is no plain file, OutsideError when it is not there.
    """
    with outside(f"Looking at {place}"):
        status: Any = place.stat()
    if not isinstance(place, Path):
        return status.st_size, (0, 0, status.st_mtime_ns)
    return _told(place, status)


def _told(place: Path, status: os.stat_result) -> tuple[int, tuple[int, int, int]]:
    if not stat.S_ISREG(status.st_mode):
        raise RequestError(f"{place} is {kind_of(status.st_mode)}, not a file: leave it out.")
    return status.st_size, (status.st_dev, status.st_ino, status.st_mtime_ns)


def _look_into(place: Place, first: int) -> tuple[int, tuple[int, int, int], bytes]:
    """Size, stamp and first bytes, of one opening where the file is here."""
    if not isinstance(place, Path):
        size, stamp = look(place)
        with outside(f"Reading {place}"), open_place(place) as file:
            return size, stamp, file.read(first)
    with outside(f"Reading {place}"):
        # Opening a pipe would wait for somebody who writes into it.
        descriptor = os.open(place, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0))
        try:
            size, stamp = _told(place, os.fstat(descriptor))
            return size, stamp, os.read(descriptor, first)
        finally:
            os.close(descriptor)


def same_file(one: Place, other: Path) -> bool:
    """Whether two paths lead to one file, by device and inode."""
    if not isinstance(one, Path):
        return False
    try:
        return one.samefile(other)
    except OSError:
        return False
