"""The load: which parts, into what table, by how many streams, and whether all of it arrived."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from splarn.core.engine import LoadNote, Session
from splarn.core.errors import RequestError
from splarn.core.levers import check_levers
from splarn.core.limit import too_many_bad
from splarn.core.load.finish import Finished, MoveRefusedError, clean_up, finish
from splarn.core.load.handed import hand_over
from splarn.core.load.opening import Opened, go_straight, open_load
from splarn.core.load.refusals import Confirm
from splarn.core.load.request import (
    IDENTITY,
    TABLE_MODES,
    LoadRecord,
    LoadRequest,
    rejects_files,
)
from splarn.core.load.sizing import Sizing, restore_left
from splarn.core.load.standing import can_tell, changes_since
from splarn.core.load.stream import LoadTask, PartResult, run_load_task
from splarn.core.pool import Pool
from splarn.core.progress import Progress, Silent


def load(
    request: LoadRequest,
    pool: Pool,
    *,
    progress: Progress | None = None,
    confirm: Confirm | None = None,
    on_begin: Callable[[LoadNote], None] | None = None,
) -> LoadRecord:
    """Loads every input once, resuming an unfinished load of the same content into the table.

    `confirm` is asked before `empty` or `replace` removes more rows than come; `on_begin` is told
    of the load before its first row. Streams are the pool's workers.
    Raises RequestError when the table does not fit, the engine lacks a lever or the content is
    already in, ShortfallError when rows are bad beyond the limit, OutsideError when the target
    fails.
    """
    for what, value, known in (
        ("table mode", request.table_mode, TABLE_MODES),
        ("identity choice", request.identity or IDENTITY[0], IDENTITY),
    ):
        if value not in known:
            raise RequestError(f"The {what} {value!r} is not known: use {', '.join(known)}.")
    watch = progress or Silent()
    engine = request.open_engine()
    check_levers(request.levers, engine)
    left = restore_left(request.open_engine) if engine.reads_parts else []
    # Kept open: its claim keeps other loaders off for as long as this one lives.
    keeper = engine.connect()
    try:
        clock, sending = keeper.clock, 0.0
        begun = clock()
        sizing = Sizing(keeper, engine.place, request.tier, request.read_tier)
        table = request.table
        request = replace(request, table=keeper.canonical(table))
        opened = open_load(keeper, request, confirm)
        if on_begin is not None and not opened.done:
            on_begin(opened.note)
        if opened.done:
            return _nothing_left(keeper, request, table, opened, tuple(left))
        with sizing.larger(opened.note):
            queued = clock()
            if engine.reads_parts:
                folder = _rejects_folder(request, opened)
                handed = hand_over(keeper, request, opened, pool, watch, folder)
                results, started, loaded = handed.results, handed.started, handed.finished
                sending = handed.sending
                _hold_to_limit(request, results, True)
            else:
                results, started, loaded = _run(request, opened, pool, watch), queued, clock()
        sized = clock()
        started = sized if started is None else started
        loaded = sized if loaded is None else loaded
        watch.start("verify" if request.verify else "finish", None, "")
        try:
            end = _finished(request, opened, results)
        except MoveRefusedError as refusal:
            if request.bad_rows.count == 0:
                raise
            opened = go_straight(keeper, request, opened, refusal.reason)
            results, loaded = _run(request, opened, pool, watch), clock()
            end = _finished(request, opened, results)
        ended = clock()
        ran = sizing.stretches() if engine.reads_parts else ()
    finally:
        watch.finish()
        keeper.close()
    note = opened.note
    short = _short_of_rejects(results)
    return LoadRecord(
        note.load_id,
        table,
        engine.place,
        tuple(results),
        sum(result.note.rows for result in results),
        sum(result.note.refused for result in results),
        ended - begun,
        {
            **({"ship": sending, "size": sizing.up + sizing.down} if engine.reads_parts else {}),
            "queue": max(started - begun - sending - sizing.up, 0.0),
            "load": loaded - started,
            "finish": max(ended - loaded - sizing.down, 0.0),
        },
        False if short else end.verified,
        (*end.differences, *short),
        end.digests,
        _rejects_folder(request, opened) if any(r.note.refused for r in results) else None,
        opened.resumed,
        (*left, *opened.notes, *sizing.notes, *end.notes),
        note.details.before if request.keep_before and note.details.before else None,
        ran,
        *_traffic(request, engine.reads_parts, opened, results, end.verified is not None),
        compared=end.compared,
    )


def _finished(request: LoadRequest, opened: Opened, results: list[PartResult]) -> Finished:
    session = request.open_engine().connect()
    try:
        return finish(session, request, opened.note, results)
    finally:
        session.rollback()
        session.close()


def _short_of_rejects(results: list[PartResult]) -> tuple[str, ...]:
    """What differs between the rows that were refused and those that the rejects keep."""
    return tuple(
        f"{result.note.refused:,} rows of {result.path} were rejected and {result.kept:,} of them "
        "are in the rejects"
        for result in results
        if result.kept is not None and result.kept != result.note.refused
    )


def _nothing_left(
    session: Session,
    request: LoadRequest,
    table: str,
    opened: Opened,
    left: tuple[str, ...],
) -> LoadRecord:
    """The record of a load that was done before, after a look whether its rows are still there.

    Raises RequestError when they are not as it left them.
    """
    note, parts = opened.note, list(opened.parts.values())
    told = can_tell(session, note, parts)
    changed = changes_since(session, note, parts)
    if changed:
        raise RequestError(
            f"The load {note.load_id} of {note.started[:19]} UTC brought this into {table}, "
            f"and its rows have been changed since ({changed[0]}): give --again to load it twice, "
            f"or take that load back first with `splarn undo {note.load_id}`."
        )
    clean_up(session, note, request.keep_before)
    by_id = {entry.content_id: entry for entry in request.inputs}
    results = [PartResult(str(by_id[part.part_id].path), part, 0.0, 0, 0, None) for part in parts]
    return LoadRecord(
        note.load_id,
        table,
        request.open_engine().place,
        tuple(results),
        sum(part.rows for part in parts),
        sum(part.refused for part in parts),
        0.0,
        dict.fromkeys(("queue", "load", "finish"), 0.0),
        True if told else None,
        (),
        note.details.digests or (),
        None,
        True,
        left,
        done_before=True,
    )


def _traffic(
    request: LoadRequest, handed: bool, opened: Opened, results: list[PartResult], verified: bool
) -> tuple[int, int, int]:
    """Bytes that went over the line, bytes scanned by a rented engine, requests to depots.

    A part in a depot is asked about and fetched by whoever reads it: this machine, and the engine
    that is handed its address.
    """
    moved = requests = 0
    for entry in request.inputs:
        away = not isinstance(entry.path, Path)
        new = opened.parts[entry.content_id].state != "done"
        readers = int(away and (request.verify or not handed)) + int(handed and new)
        moved += readers * (entry.path.stat().st_size if readers else 0)
        requests += 2 * readers if away else readers
    scanned = sum(result.raw_bytes for result in results) if handed and verified else 0
    return moved, scanned, requests


def _rejects_folder(request: LoadRequest, opened: Opened) -> Path | None:
    return None if request.rejects is None else request.rejects / opened.note.load_id


def _run(request: LoadRequest, opened: Opened, pool: Pool, watch: Progress) -> list[PartResult]:
    folder = _rejects_folder(request, opened)
    details = opened.note.details
    files = rejects_files(request.inputs)
    tasks = [
        LoadTask(
            request.open_engine,
            opened.into,
            request.layout,
            details.names,
            entry.source,
            entry.packed_hash,
            entry.pieces,
            opened.parts[entry.content_id],
            request.batch_rows,
            request.bad_rows,
            None if folder is None else folder / files[entry.content_id],
            details.durability == "relaxed",
        )
        for entry in request.inputs
    ]
    known = [entry.raw_bytes for entry in request.inputs]
    plain = all(entry.codec == "none" or entry.rows is not None for entry in request.inputs)
    total = sum(size or 0 for size in known) if plain and None not in known else None
    watch.start("load", total, "bytes")
    results: dict[str, PartResult] = {}
    for task, result in pool.as_done(run_load_task, tasks, watch):
        results[task.note.part_id] = result
        _hold_to_limit(request, list(results.values()), len(results) == len(tasks))
    watch.finish()
    return [results[entry.content_id] for entry in request.inputs]


def _hold_to_limit(request: LoadRequest, results: list[PartResult], whole: bool) -> None:
    """The limit is for all parts together; raises ShortfallError when they are over it."""
    bad = sum(result.note.refused for result in results)
    rows = bad + sum(result.note.rows for result in results)
    limit = request.bad_rows
    within = limit.allows_in_the_end(bad, rows) if whole else limit.allows(bad, rows)
    if not within:
        raise too_many_bad(limit)
