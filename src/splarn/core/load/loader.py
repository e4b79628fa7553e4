"""The load: which parts, into what table, by how many streams, and whether all of it arrived."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from splarn.core.codecs import codec_of
from splarn.core.digest import ColumnDigest, add_digests
from splarn.core.engine import LoadNote, OpenEngine, PartNote, Session
from splarn.core.errors import RequestError, ShortfallError
from splarn.core.faults import Fault
from splarn.core.files import content_hash
from splarn.core.layout import Layout
from splarn.core.load.stream import LoadTask, PartResult, run_load_task
from splarn.core.load.table import fit_table
from splarn.core.load.verify import compare_digests
from splarn.core.places import Place
from splarn.core.pool import Pool
from splarn.core.progress import Progress, Silent
from splarn.core.reading.sources import check_sources
from splarn.core.shape.manifest import Manifest

TABLE_MODES = ("create", "append", "empty")


@dataclass(frozen=True)
class Input:
    """One file to load. `content_id` is the hash of its bytes as they lie on disk."""

    path: Place
    codec: str
    content_id: str
    raw_bytes: int | None = None
    rows: int | None = None


@dataclass(frozen=True)
class LoadRequest:
    """What to load and how. `bad_limit` 0 halts at the first bad row; None sets any number aside.

    `rejects` is the folder for refused rows.
    """

    open_engine: OpenEngine
    table: str
    layout: Layout
    inputs: tuple[Input, ...]
    batch_rows: int = 50_000
    table_mode: str = "create"
    bad_limit: int | None = 0
    rejects: Path | None = None
    again: bool = False
    verify: bool = True


@dataclass(frozen=True)
class LoadRecord:
    """What came of a load. `phases` are seconds; `differences` is empty when all arrived."""

    load_id: str
    table: str
    place: str
    parts: tuple[PartResult, ...]
    rows_loaded: int
    rows_rejected: int
    seconds: float
    phases: dict[str, float]
    verified: bool | None
    differences: tuple[str, ...]
    digests: tuple[ColumnDigest, ...]
    rejects: Path | None
    resumed: bool

    @property
    def faults(self) -> list[Fault]:
        """The first few faults of each part."""
        return [fault for part in self.parts for fault in part.faults]


def inputs_from_files(paths: Sequence[Place], layout: Layout) -> tuple[Input, ...]:
    """Files as they came, their headers held against the layout.

    Raises RequestError as `check_sources` does, or when a file is given twice under two names.
    """
    check_sources(paths, layout)
    found: dict[str, Input] = {}
    for path in paths:
        codec = codec_of(path)
        entry = Input(path, codec, content_hash(path), path.stat().st_size)
        twin = found.get(entry.content_id)
        if twin is not None and entry.raw_bytes:
            raise RequestError(
                f"{path} holds the same content as {twin.path}: leave one out, or its rows would "
                "be in the table twice."
            )
        found[entry.content_id] = entry
    return tuple(found.values())


def inputs_from_manifest(manifest: Manifest) -> tuple[Input, ...]:
    """The parts of a manifest.

    Raises RequestError when a part is missing or has another size than listed.
    """
    found = []
    for part in manifest.parts:
        path = manifest.folder / part.path
        size = path.stat().st_size if path.is_file() else -1
        if size != part.bytes:
            state = "is missing" if size < 0 else f"has {size:,} bytes, not {part.bytes:,}"
            raise RequestError(f"The part {path} {state}: shape the source again.")
        found.append(Input(path, part.codec, part.hash, part.raw_bytes, part.rows))
    return tuple(found)


def load(
    request: LoadRequest,
    pool: Pool,
    *,
    progress: Progress | None = None,
    confirm: Callable[[int], bool] | None = None,
) -> LoadRecord:
    """Loads every input once, resuming an unfinished load of the same content into the table.

    `confirm` is asked before `empty` removes that many rows. Streams are the pool's workers.
    Raises RequestError when the table does not fit or the content is already in, ShortfallError
    when rows are bad beyond the limit, OutsideError when the target fails.
    """
    if request.table_mode not in TABLE_MODES:
        raise RequestError(
            f"The table mode {request.table_mode!r} is not known: use {', '.join(TABLE_MODES)}."
        )
    watch = progress or Silent()
    begun = time.perf_counter()
    engine = request.open_engine()
    session = engine.connect()
    try:
        load_id, notes, resumed = _open(session, request, confirm)
        before = None
        if request.verify and request.table_mode == "append" and not resumed:
            before = session.digest(request.table, request.layout.fields)
            session.rollback()
    finally:
        session.close()
    queued = time.perf_counter()
    results = _run(request, notes, load_id, pool, watch)
    loaded = time.perf_counter()
    session = engine.connect()
    try:
        note = next(n for n in session.loads(request.table) if n.load_id == load_id)
        session.note_load(replace(note, state="done"))
        session.commit()
        digests: list[ColumnDigest] | None = None
        for result in results:
            digests = add_digests(digests, result.digests) if result.digests else digests
        differences: list[str] = []
        can_verify = request.verify and (not resumed or request.table_mode != "append")
        if can_verify:
            table = session.digest(request.table, request.layout.fields)
            none = [ColumnDigest(field.name) for field in request.layout.fields]
            differences = compare_digests(digests or none, before or [], table)
    finally:
        session.close()
    ended = time.perf_counter()
    return LoadRecord(
        load_id,
        request.table,
        engine.place,
        tuple(results),
        sum(result.note.rows for result in results),
        sum(result.note.refused for result in results),
        ended - begun,
        {"queue": queued - begun, "load": loaded - queued, "finish": ended - loaded},
        not differences if can_verify else None,
        tuple(differences),
        tuple(digests or ()),
        _rejects_folder(request, load_id) if any(r.note.refused for r in results) else None,
        resumed,
    )


def _open(
    session: Session, request: LoadRequest, confirm: Callable[[int], bool] | None
) -> tuple[str, dict[str, PartNote], bool]:
    """Settles the table and the load's notes in one transaction."""
    wanted = {entry.content_id: entry for entry in request.inputs}
    earlier = session.loads(request.table)
    open_loads = [note for note in earlier if note.state == "open"]
    for note in open_loads:
        parts = {part.part_id: part for part in session.parts([note.load_id])}
        if set(parts) == set(wanted):
            fit_table(session, request.table, request.layout, "append", None)
            session.rollback()
            return note.load_id, parts, True
    open_loads = [note for note in open_loads if not _is_void(note, session)]
    if open_loads:
        _warn_unfinished(open_loads, session, request)
    if not request.again and request.table_mode != "empty":
        _refuse_same_content(session, earlier, wanted)
    fit_table(session, request.table, request.layout, request.table_mode, confirm)
    if request.table_mode == "empty":
        for note in earlier:
            if note.state != "emptied":
                session.note_load(replace(note, state="emptied"))
    now = datetime.now(UTC)
    load_id = f"{now:%Y%m%d-%H%M%S}-{secrets.token_hex(2)}"
    started = now.isoformat(timespec="seconds")
    session.note_load(LoadNote(load_id, request.table, "open", request.table_mode, started))
    notes = {}
    for content_id, entry in wanted.items():
        part = PartNote(load_id, content_id, entry.path.name, "open", 0, 0, 0)
        session.note_part(part)
        notes[content_id] = part
    session.commit()
    return load_id, notes, False


def _is_void(note: LoadNote, session: Session) -> bool:
    """Whether an unfinished load brought nothing in, so that it need not be gone on with."""
    if any(part.rows or part.refused for part in session.parts([note.load_id])):
        return False
    session.note_load(replace(note, state="emptied"))
    return True


def _warn_unfinished(open_loads: list[LoadNote], session: Session, request: LoadRequest) -> None:
    if request.again or request.table_mode == "empty":
        return
    names = [part.name for part in session.parts([open_loads[-1].load_id])]
    shown = ", ".join(names[:3]) + (" and others" if len(names) > 3 else "")
    raise RequestError(
        f"The load {open_loads[-1].load_id} of {shown} into {request.table} is unfinished: run it "
        "again to its end first, or give --table-mode empty to begin anew."
    )


def _refuse_same_content(
    session: Session, earlier: list[LoadNote], wanted: dict[str, Input]
) -> None:
    standing = {note.load_id: note for note in earlier if note.state != "emptied"}
    for part in session.parts(list(standing)):
        if part.part_id in wanted and part.state == "done":
            note = standing[part.load_id]
            raise RequestError(
                f"{wanted[part.part_id].path} is already in {note.table}: the load {note.load_id} "
                f"of {note.started} brought it in as {part.name}; give --again to load it twice."
            )


def _rejects_folder(request: LoadRequest, load_id: str) -> Path | None:
    return None if request.rejects is None else request.rejects / load_id


def _run(
    request: LoadRequest,
    notes: dict[str, PartNote],
    load_id: str,
    pool: Pool,
    watch: Progress,
) -> list[PartResult]:
    folder = _rejects_folder(request, load_id)
    tasks = []
    for entry in request.inputs:
        note = notes[entry.content_id]
        rejects = None if folder is None else folder / f"{entry.path.name}.rejects.jsonl"
        tasks.append(
            LoadTask(
                request.open_engine,
                request.table,
                request.layout,
                entry.path,
                entry.codec,
                note,
                request.batch_rows,
                request.bad_limit,
                rejects,
            )
        )
    known = [entry.raw_bytes for entry in request.inputs]
    plain = all(entry.codec == "none" or entry.rows is not None for entry in request.inputs)
    total = sum(size or 0 for size in known) if plain and None not in known else None
    watch.start("load", total, "bytes")
    results: dict[str, PartResult] = {}
    for task, result in pool.as_done(run_load_task, tasks, watch):
        results[task.note.part_id] = result
        refused = sum(done.note.refused for done in results.values())
        if request.bad_limit is not None and refused > request.bad_limit:
            raise ShortfallError(
                f"The load stopped because more than {request.bad_limit:,} rows are bad; raise "
                "--bad-row-limit or mend the files, then run the same command to go on."
            )
    watch.finish()
    return [results[entry.content_id] for entry in request.inputs]
