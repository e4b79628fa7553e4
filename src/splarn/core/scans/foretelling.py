"""What questions cost by how the rows are kept, and after how many of them rewriting has paid."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.lake.partitions import Value
from splarn.core.layout import Layout
from splarn.core.layout.file_layout import PartitionField, check_columns
from splarn.core.prices import Prices, Usage, reckon, tier_of
from splarn.core.scans.asked import Keys, Wanted, wanted_of
from splarn.core.scans.cutting import as_compacted, as_loaded
from splarn.core.scans.delivered import delivered_files, speed_of
from splarn.core.scans.kept import Kept
from splarn.core.scans.look import LOOK_BYTES, Look, take_look
from splarn.core.scans.questions import Question, check_question
from splarn.core.scans.reads import NOTHING, Files, Read, into_files, read_of
from splarn.core.scans.texts import write_text
from splarn.core.scans.written import write_sample
from splarn.core.source.places import Remote
from splarn.core.source.source import Source
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress, Silent

# So many fetches of one question are on their way at once.
FETCHES = 8


@dataclass(frozen=True)
class TableFiles:
    """How a table keeps its files apart: by what fields, and the values of these of each file."""

    partition: tuple[PartitionField, ...]
    values: tuple[tuple[Value, ...], ...]


@dataclass(frozen=True)
class ScanRequest:
    """Questions of a delivery, ways of keeping its rows, and how much of it is looked at.

    Where the sources are the files of a `table`, it says how these lie in partitions.
    """

    sources: tuple[Source, ...]
    layout: Layout
    questions: tuple[Question, ...]
    kept: tuple[Kept, ...]
    size: int = LOOK_BYTES
    table: TableFiles | None = None


@dataclass(frozen=True)
class Line:
    """How rows come to those who ask: bytes a second, and seconds until a fetch begins to.

    Without them they come as fast as this machine reads its own files.
    """

    rate: float | None = None
    latency: float = 0.0


@dataclass(frozen=True)
class Asking:
    """One question of rows that are kept in one way, once; `seconds` are of this machine's work."""

    read: Read
    seconds: float

    def over(self, line: Line) -> float:
        """Seconds, with what the line takes."""
        fetching = self.read.bytes / line.rate if line.rate else 0.0
        return self.seconds + fetching + self.read.requests * line.latency / FETCHES


@dataclass(frozen=True)
class KeptRows:
    """Rows kept in one way: files, bytes, the seconds that making them takes, and what questions
    read of them. Nothing is made of what was delivered (`kept` is None)."""

    kept: Kept | None
    words: str
    files: float
    bytes: float
    writing: float
    asked: tuple[Asking, ...]


@dataclass(frozen=True)
class Scans:
    """What questions read of rows kept in several ways, first as they were delivered.

    `of_table` says that these are a table's, as it is, `far` that they lie elsewhere.
    """

    look: Look
    questions: tuple[Question, ...]
    shares: tuple[float, ...]
    ways: tuple[KeptRows, ...]
    of_table: bool = False
    far: bool = False


def foretell_scans(
    request: ScanRequest, folder: Path, pool: Pool, progress: Progress | None = None
) -> Scans:
    """Looks at a delivery, writes some of it in each way, and reads that back.

    Raises RequestError where a question or a layout does not fit the fields, OutsideError where
    reading or writing fails.
    """
    fields = request.layout.fields
    for question in request.questions:
        check_question(question, fields)
    named = [one.column for question in request.questions for one in question.conditions]
    for kept in request.kept:
        if not kept.is_text:
            check_columns(kept.layout, fields)
            named += kept.layout.columns
    look = take_look(request.sources, request.layout, named, pool, request.size, progress)
    keys = Keys(look, fields, named)
    asked = [wanted_of(question, keys) for question in request.questions]
    shares = tuple(sum(one.share for one in every) / len(every) for every in asked)
    watch = progress or Silent()
    watch.start("try", len(request.kept), "ways of keeping rows")
    ways = [_as_delivered(request, look, keys, asked)]
    for number, kept in enumerate(request.kept):
        here = folder / str(number)
        ways.append(
            _as_text(request, look, kept, here)
            if kept.is_text
            else _as_columns(request, look, keys, kept, asked, here)
        )
        watch.advance(1)
    watch.finish()
    far = any(isinstance(one.place, Remote) for one in request.sources)
    of_table = request.table is not None
    return Scans(look, request.questions, shares, tuple(ways), of_table, far)


def _as_delivered(
    request: ScanRequest, look: Look, keys: Keys, asked: Sequence[Sequence[Wanted]]
) -> KeptRows:
    size = float(sum(source.size for source in request.sources))
    forms = ", ".join(sorted({_form(one, request.layout) for one in request.sources}))
    words = f"as delivered: {forms}" if request.table is None else "as it is"
    if request.layout.format == "parquet":
        table = request.table
        values = None if table is None else table.values
        files = delivered_files(request.sources, look, keys, values)
        fields = () if table is None else table.partition
        told = tuple(
            _asking(files, every, look, fields, *speed_of(request.sources, every[0].columns))
            for every in asked
        )
        return KeptRows(None, words, float(len(request.sources)), size, 0.0, told)
    count = float(len(request.sources))
    read = Read(size, count, count, 0.0, look.rows)
    one = Asking(read, look.seconds * look.rows)
    return KeptRows(None, words, count, size, 0.0, (one,) * len(asked))


def _form(source: Source, layout: Layout) -> str:
    packing = source.codec.split("+")[0]
    return layout.format if packing == "none" else f"{layout.format} {packing}"


def _as_text(request: ScanRequest, look: Look, kept: Kept, folder: Path) -> KeptRows:
    made = write_text(look, request.layout, kept, folder)
    size = made.packed * look.rows
    files = max(round(made.unpacked * look.rows / kept.file_bytes + 0.5), 1)
    one = Asking(Read(size, files, files, 0.0, look.rows), made.reading * look.rows)
    writing = (look.seconds + made.writing) * look.rows
    return KeptRows(kept, kept.text(), files, size, writing, (one,) * len(request.questions))


def _as_columns(
    request: ScanRequest, look: Look, keys: Keys, kept: Kept,
    asked: Sequence[Sequence[Wanted]], folder: Path,
) -> KeptRows:  # fmt: skip
    if kept.compacted:
        groups = as_compacted(look, keys, kept.layout)
        rows = None
    else:
        groups = as_loaded(look, keys, kept.layout, kept.part_bytes)
        rows = groups.rows_at_once
    written = write_sample(look, kept.layout, rows, asked, folder)
    files = into_files(groups, written, kept.layout)
    each = written.seconds / max(written.rows, 1)
    # What merging writes was written before, and is read before and behind.
    merging = each + 2 * max(written.reading, default=0.0) if kept.compacted else 0.0
    loading = 0.0 if request.table is not None and kept.compacted else look.seconds + each
    writing = (loading + merging) * look.rows
    told = tuple(
        _asking(files, every, look, kept.layout.partition, written.opening, a_row)
        for every, a_row in zip(asked, written.reading, strict=True)
    )
    return KeptRows(kept, kept.text(), files.count, files.total, writing, told)


def _asking(
    files: Files, every: Sequence[Wanted], look: Look, partition: Sequence[PartitionField],
    opening: float, a_row: float,
) -> Asking:  # fmt: skip
    """A question as the mean of those that it stands for."""
    names = [one.name for one in look.columns]
    kinds = {one.name: one.arrow_type for one in look.columns}
    total = NOTHING
    for wanted in every:
        total += read_of(files, wanted, names, partition, kinds)
    read = total.times(1 / len(every))
    return Asking(read, read.files * opening + read.rows * a_row)


@dataclass(frozen=True)
class Bill:
    """What one way of keeping rows costs: a month's questions and keeping, and the writing, once.

    `seconds` and `read` are of a month's questions, `writing_seconds` of the writing. After
    `paid_money` questions writing has paid for itself in money, after `paid_time` in time; None
    where it never does or there is nothing to pay.
    """

    way: KeptRows
    read: Read
    seconds: float
    writing_seconds: float
    asking: float
    keeping: float
    writing: float
    total: float
    paid_money: float | None = None
    paid_time: float | None = None


def bills(
    scans: Scans, prices: Prices, months: float, line: Line, tier: str, workers: int
) -> list[Bill]:
    """What each way costs over so many months, in the order of the ways.

    `workers` write at once, questions are computed in `tier`, whose price they pay by the second.
    Raises RequestError for a tier that the price list does not have.
    """
    found: list[Bill] = []
    for way in scans.ways:
        read, seconds = NOTHING, 0.0
        for question, asked in zip(scans.questions, way.asked, strict=True):
            read += asked.read.times(question.monthly)
            seconds += asked.over(line) * question.monthly
        asking = reckon(prices, Usage(scanned=read.bytes, requests=read.requests)).total
        asking += seconds / 3600 * tier_of(prices, tier).per_hour
        keeping = way.bytes / 1e9 * prices.storage_gb_month
        took = way.writing / workers
        made = Usage(machine=took, requests=0.0 if way.kept is None else way.files)
        writing = reckon(prices, made).total
        total = writing + months * (asking + keeping)
        found.append(Bill(way, read, seconds, took, asking, keeping, writing, total))
    monthly = sum(one.monthly for one in scans.questions)
    return [found[0], *(_paid(one, found[0], monthly) for one in found[1:])]


def _paid(one: Bill, base: Bill, monthly: float) -> Bill:
    """The same with after how many questions writing has paid for itself."""
    money = base.asking + base.keeping - one.asking - one.keeping
    time = base.seconds - one.seconds
    return replace(
        one,
        paid_money=one.writing / money * monthly if money > 0 else None,
        paid_time=one.writing_seconds / time * monthly if time > 0 else None,
    )


def cheapest(told: Sequence[Bill], months: float) -> Bill:
    """The one that costs least in all or, where nothing has a price, takes the least time."""
    if any(one.total > 0 for one in told):
        return min(told, key=lambda one: one.total)
    return min(told, key=lambda one: one.writing_seconds + months * one.seconds)
