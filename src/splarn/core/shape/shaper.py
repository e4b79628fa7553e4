"""Cuts, merges, packs and converts the source into parts of about one size."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.errors import RequestError, ShortfallError
from splarn.core.layout import Layout
from splarn.core.layout.descriptor import to_descriptor
from splarn.core.reading.faults import Fault
from splarn.core.reading.sources import read_sources
from splarn.core.reading.text import header_line
from splarn.core.records.chunks import record_chunks
from splarn.core.shape.copying import LOOK, refuse_longer
from splarn.core.shape.fitting import Fitting
from splarn.core.shape.folder import Unfinished, fingerprint, part_name
from splarn.core.shape.grouping import Group, group_sources
from splarn.core.shape.line import MOST_HELD, Line
from splarn.core.shape.manifest import Manifest, Part, write_manifest
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.spreading import spread
from splarn.core.shape.task import Cut, ShapeTask
from splarn.core.shape.work import run_shape_task
from splarn.core.source.codecs import head_of
from splarn.core.source.content import Identity, identity_of
from splarn.core.source.leaves import Stretch
from splarn.core.source.passing import Extent
from splarn.core.source.places import Place, Remote, key_of, place
from splarn.core.source.source import Source, identify
from splarn.core.work.activity import Activity
from splarn.core.work.pool import AT_ONCE, Inline, Pool, Threads
from splarn.core.work.progress import Progress, Silent


@dataclass(frozen=True)
class Shaped:
    """What a shape made and how long it took. `bytes_in` are bytes on disk.

    `resumed` counts the parts that an interrupted shape had made already. `faults` are the rows
    that a conversion set aside. `mark` is the folder's, still there where parts were handed on.
    """

    manifest: Manifest
    bytes_in: int
    seconds: float
    mark: Unfinished
    resumed: int = 0
    faults: tuple[Fault, ...] = ()

    def finish(self) -> None:
        """Writes the manifest, and takes the mark away. Raises OutsideError."""
        write_manifest(self.manifest)
        self.mark.finish()


@dataclass(frozen=True)
class Handing:
    """Parts handed on as soon as they are whole, by whichever thread made them.

    `hand` is given each part, those of an earlier try too, and may wait, resting `at_work` then;
    `stands` says whether one of those need not be made again. `judge` is told of each cut before
    that.
    """

    hand: Callable[[Part], None]
    stands: Callable[[Part], bool]
    judge: Callable[[Cut], None]
    at_work: Activity


def shape(
    paths: Sequence[Place],
    layout: Layout,
    folder: Path,
    output: PartsFormat,
    pool: Pool,
    *,
    keep: int | None = 0,
    again: bool = False,
    progress: Progress | None = None,
    handing: Handing | None = None,
    fitting: Fitting | None = None,
    name: str | None = None,
) -> Shaped:
    """Makes parts in `folder`, and their manifest last.

    A folder is marked as unfinished until the manifest stands; the same call goes on with the parts
    that are whole. `keep` is how many bad rows a conversion may set aside; None is any number. With
    `handing` parts are handed on, and the mark stays until `finish`. `fitting` has rows go into
    another layout than that of the source. Parts are called by `name`, or as the layout is.
    Raises RequestError when the folder is in use or a record is larger than a part, ShortfallError
    for bad rows in a conversion, OutsideError when reading or writing fails.
    """
    watch = progress or Silent()
    begun = time.perf_counter()
    sources = read_sources(paths, layout)
    extents = _extents(sources, layout, output)
    made = output.layout(layout) if fitting is None else fitting.into
    request = fingerprint(paths, to_descriptor(layout), repr(output), keep, repr(fitting))
    name = part_name(layout.name) if name is None else name
    stands = None if handing is None else handing.stands
    at_work = Activity() if handing is None else handing.at_work
    mark = Unfinished(folder, request, again, name, stands)
    try:
        with at_work.working():
            groups = group_sources(sources, layout, output, pool)
        header = header_line(made) if made.dialect.header else b""
        tasks = [
            ShapeTask(
                source=tuple(group.pieces),
                folder=folder,
                stem=f"{name}-{number:04d}",
                layout=layout,
                made=made,
                output=output,
                header=header,
                cutting=group.cutting,
                keep=keep,
                counted=group.counted,
                fitting=fitting,
                extents={} if group.cutting else _of(extents, group),
            )
            for number, group in enumerate(groups, 1)
        ]
        total = sum(source.size for source in sources)
        watch.start("shape", total, "bytes")
        with _identifying(sources, tasks, layout, pool) as early:
            cuts_of = _run(tasks, mark, pool, watch, at_work, handing)
        watch.finish()
    except (RequestError, ShortfallError):
        # The same request can only fail again. Parts that were handed on may be in use.
        if handing is None:
            mark.clear()
            mark.finish()
        raise
    cuts = [cut for task in tasks for cut in cuts_of[task.stem]]
    resumed = sum(len(cut.parts) for cuts in mark.done.values() for cut in cuts)
    parts = _told([part for cut in cuts for part in cut.parts])
    contents = early() | _passed(cuts)
    left = [one for one in sources if key_of(one.place) not in contents]
    with at_work.working():
        contents |= _identified(left, layout, pool)
    # What changed meanwhile is in the parts half as it was and half as it is.
    for source in sources:
        source.check_unchanged()
    manifest = Manifest(folder, made, tuple(parts), contents)
    seconds = time.perf_counter() - begun
    shaped = Shaped(manifest, total, seconds, mark, resumed, tuple(_faults(cuts)))
    if handing is None:
        shaped.finish()
    return shaped


@contextmanager
def _identifying(
    sources: Sequence[Source], tasks: Sequence[ShapeTask], layout: Layout, pool: Pool
) -> Iterator[Callable[[], dict[str, Identity]]]:
    """Reads files for their content ids while parts are made of them, where workers are apart.

    Not those of which the tasks tell that anyway. What is given tells the ids, once all have come.
    """
    by_tasks = {
        piece.path
        for task in tasks
        for piece in task.source
        if piece.path in task.extents or task.cutting
    }
    left = [one for one in sources if key_of(one.place) not in by_tasks]
    if not pool.apart or not left:
        yield dict[str, Identity]
        return
    beside = ThreadPoolExecutor(1, "identify")
    found = beside.submit(_identified, left, layout, pool)
    try:
        yield found.result
    finally:
        # After an error nobody waits for it; it ends with the pool.
        beside.shutdown(wait=False)


def _of(extents: Mapping[str, Extent], group: Group) -> dict[str, Extent]:
    return {one.path: extents[one.path] for one in group.pieces if one.path in extents}


def _passed(cuts: Sequence[Cut]) -> dict[str, Identity]:
    """What is known of the files that passed while the cuts were made."""
    stretches: dict[str, list[Stretch]] = {}
    for cut in cuts:
        for path, stretch in cut.stretches:
            stretches.setdefault(path, []).append(stretch)
    joined = {path: identity_of(held) for path, held in stretches.items()}
    known = {path: one for path, one in joined.items() if one is not None}
    return known | {path: one for cut in cuts for path, one in cut.contents}


def _identified(sources: Sequence[Source], layout: Layout, pool: Pool) -> dict[str, Identity]:
    keys = [key_of(one.place) for one in sources]
    return dict(zip(keys, identify(sources, layout, pool), strict=True))


def _told(parts: Sequence[Part]) -> list[Part]:
    """The same in the same order, each told what of its files lies before it."""
    told: dict[str, Part] = {}
    line = Line(lambda part: told.update({part.path: part}))
    for part in parts:
        line.put(part)
    line.end()
    return [told[part.path] for part in parts]


def _extents(sources: Sequence[Source], layout: Layout, output: PartsFormat) -> dict[str, Extent]:
    """Those of plain text files, by which ranges of them tell their content.

    Raises RequestError for a first record that is longer than a part.
    """
    if layout.format == "parquet":
        return {}

    def look(source: Source) -> Extent | None:
        path, begins = source.place, None
        head = head_of(path, source.codec, LOOK)
        for chunk in record_chunks([head], layout.dialect, where=str(path)):
            if begins is None:
                begins = chunk.offset + int(chunk.starts[0])
            if not output.part_rows:
                # The last record may be cut off by the end of the look.
                longest = chunk.longest(slice(0, max(chunk.rows - 1, 1)))
                refuse_longer(longest, output.part_bytes, path)
        plain = source.codec == "none"
        return Extent(len(head) if begins is None else begins, source.size) if plain else None

    # What lies behind a line is looked at several at a time.
    away = any(isinstance(source.place, Remote) for source in sources)
    found = (Threads(AT_ONCE) if away else Inline()).flow(look, sources)
    known = zip(sources, found, strict=True)
    return {key_of(source.place): extent for source, extent in known if extent is not None}


def _run(
    tasks: Sequence[ShapeTask],
    mark: Unfinished,
    pool: Pool,
    watch: Progress,
    at_work: Activity,
    handing: Handing | None,
) -> dict[str, list[Cut]]:
    """The cuts of every task; tasks run side by side, or share the workers when they are few."""
    line = None if handing is None else Line(handing.hand, MOST_HELD)

    def whole(cut: Cut) -> None:
        if handing is not None and line is not None:
            handing.judge(cut)
            for part in cut.parts:
                line.put(part)

    with at_work.working():
        for task in tasks:
            for cut in mark.done.get(task.stem, ()):
                whole(cut)
    done = {stem: list(mark.done.get(stem, [])) for stem in mark.ended}
    left = [
        replace(task, done=tuple(mark.done.get(task.stem, ())))
        for task in tasks
        if task.stem not in mark.ended
    ]
    watch.advance(sum(_size(task) for task in tasks if task.stem in mark.ended))

    def run(task: ShapeTask, shared: Pool | None = None) -> list[Cut]:
        def made(cut: Cut) -> None:
            mark.add(task.stem, cut)
            whole(cut)

        with at_work.working():
            cuts = run_shape_task(task, made, shared)
        mark.end(task.stem)
        return cuts

    def is_copy(task: ShapeTask) -> bool:
        return not task.cutting and task.output.is_copy(task.layout)

    if pool.apart:
        few = sum(task.cutting for task in left) < pool.workers
        alone = [task for task in left if not (task.cutting and few)]

        def took(task: ShapeTask, cuts: Iterable[Cut]) -> None:
            done[task.stem] = list(task.done)
            for cut in cuts:
                mark.add(task.stem, cut)
                done[task.stem].append(cut)
                whole(cut)
            mark.end(task.stem)

        with at_work.working():
            # In order, and never far ahead of what is wanted next.
            for task, cuts in zip(alone, pool.flow(run_shape_task, alone, watch), strict=True):
                took(task, cuts[len(task.done) :])
            for task in left:
                if task.cutting and few:
                    took(task, spread(task, pool, watch))
            if line is not None:
                line.end()
        return done

    shared = sum(not is_copy(task) for task in left) < pool.workers
    streams = [task for task in left if shared and not is_copy(task)]
    others = [task for task in left if not shared or is_copy(task)]
    for task, cuts in zip(others, pool.map(run, others, watch), strict=True):
        done[task.stem] = cuts
    for task in streams:
        (done[task.stem],) = Inline().map(lambda one: run(one, pool), [task], watch)
    if line is not None:
        with at_work.working():
            line.end()
    return done


def _size(task: ShapeTask) -> int:
    """Bytes on disk that a task reads."""
    if task.cutting or task.layout.format == "parquet":
        return sum(place(piece.path).stat().st_size for piece in task.source)
    return sum(
        (place(piece.path).stat().st_size if piece.end is None else piece.end) - piece.start
        for piece in task.source
    )


def _faults(cuts: Sequence[Cut]) -> list[Fault]:
    """The rows set aside, with rows and lines counted from each file's start."""
    rows: Counter[str] = Counter()
    lines: Counter[str] = Counter()
    faults = []
    for cut in cuts:
        for count in cut.counts:
            before, above = rows[count.path], lines[count.path]
            faults += [
                replace(fault, row=fault.row + before, line=fault.line + above)
                for fault in count.faults
            ]
            rows[count.path] += count.rows
            lines[count.path] += count.lines
    return faults
