"""The load: which parts, into what table, by how many streams, and whether all of it arrived."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from splarn.core.errors import OutsideError, RequestError
from splarn.core.lake.foreseeing import foresee
from splarn.core.layout.file_layout import check_columns, read_file_layout
from splarn.core.load.arriving import Arrivals, sealed
from splarn.core.load.finish import Finished, MoveRefusedError, clean_up, finish
from splarn.core.load.handed import hand_over
from splarn.core.load.handed_meanwhile import hand_over_meanwhile
from splarn.core.load.opening import Opened, go_straight, open_load
from splarn.core.load.phases import PhaseTimer
from splarn.core.load.refusals import Confirm, ContentInQuestionError
from splarn.core.load.request import (
    NUMBERS,
    TABLE_MODES,
    LoadRecord,
    LoadRequest,
    identify_whole,
)
from splarn.core.load.sizing import Sizing, restore_left
from splarn.core.load.standing import can_tell, changed_since, changes_since
from splarn.core.load.streams import rejects_folder, run_arriving, run_streams
from splarn.core.load.task import PartResult
from splarn.core.target.notes import LoadNote
from splarn.core.target.session import Session, check_levers
from splarn.core.units import plural
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress, Silent
from splarn.core.work.stages import summed


def load(
    request: LoadRequest,
    pool: Pool,
    *,
    progress: Progress | None = None,
    confirm: Confirm | None = None,
    on_begin: Callable[[LoadNote], None] | None = None,
    arrivals: Arrivals | None = None,
) -> LoadRecord:
    """Loads every input once, resuming an unfinished load of the same content into the table.

    With `arrivals` the inputs are the files of a delivery, whose parts are made and brought while
    others are loaded. `confirm` is asked before `empty`, `replace` or `renew` removes more rows
    than come; `on_begin` is told of the load before its first row. Streams are the pool's workers.
    Raises RequestError when the table does not fit, the engine lacks a lever or the content is
    already in, ShortfallError when rows are bad beyond the limit, OutsideError when the target
    fails.
    """
    for role, value, known in (
        ("table mode", request.table_mode, TABLE_MODES),
        ("choice of numbers", request.numbers or NUMBERS[0], NUMBERS),
    ):
        if value not in known:
            raise RequestError(f"The {role} {value!r} is not known: use {', '.join(known)}.")
    watch = progress or Silent()
    engine = request.open_engine()
    check_levers(request.levers, engine)
    left = restore_left(request.open_engine) if engine.reads_parts else []
    # Kept open: its claim keeps other loaders off for as long as this one lives.
    keeper = engine.connect()
    try:
        timer, loading = PhaseTimer(keeper.clock), None
        sending: float | None = None
        sizing = Sizing(keeper, engine.place, request.tier, request.read_tier)
        table = request.table
        request = replace(request, table=keeper.tables.canonical(table))
        keeper.lay_out(request.levers.file_layout)
        foreseen = _foreseen(keeper, request)
        request, opened = _open(keeper, request, confirm, pool)
        if on_begin is not None and not opened.done:
            on_begin(opened.note)
        if opened.done:
            return _nothing_left(keeper, request, table, opened, tuple(left))
        if arrivals is not None:
            arrivals.begin(opened.note.load_id, opened.parts)
            timer.open()
            if sizing.grows:
                arrivals.await_enough()
            timer.catch_up(keeper.files)
        with sizing.larger(opened.note):
            timer.rows_begin()
            moments: tuple[float | None, float | None]
            if engine.reads_parts:
                if arrivals is None:
                    handed = hand_over(keeper, request, opened, pool, watch)
                else:
                    handed = hand_over_meanwhile(
                        keeper, request, opened, pool, watch, arrivals, timer, sizing
                    )
                results, sending, loading = handed.results, handed.sending, handed.loading
                moments, timer.waited = (handed.started, handed.finished), handed.waited
                request = replace(request, inputs=handed.inputs, delivered=None)
            elif arrivals is not None:
                arrived = run_arriving(request, opened, pool, watch, arrivals)
                results, loading = arrived.results, arrived.seconds
                request = replace(request, inputs=arrived.inputs, delivered=None)
                moments = (timer.first, timer.clock())
            else:
                results = run_streams(request, opened, pool, watch)
                moments = (timer.first, timer.clock())
        if arrivals is not None:
            opened = _sealed(keeper, opened, results, arrivals)
        # Where nothing was left to be read, the rows are in since the compute was sized back.
        timer.rows_end(*(timer.clock() if one is None else one for one in moments))
        watch.start("verify" if request.verify else "finish", None, "")
        try:
            end = _finished(request, opened, results, confirm)
        except MoveRefusedError as refusal:
            if request.bad_rows.count == 0:
                raise
            opened = go_straight(keeper, request, opened, refusal.reason)
            results = run_streams(request, opened, pool, watch)
            timer.rows_end()
            end = _finished(request, opened, results, confirm)
        timer.end()
        version = keeper.version()
        ran = sizing.stretches() if engine.has_sizes else ()
    finally:
        watch.finish()
        keeper.close()
    note = opened.note
    short = _short_of_rejects(results)
    looked = end.verified is not None
    moved, scanned, requests = _traffic(request, engine.reads_parts, opened, results, looked)
    return LoadRecord(
        load_id=note.load_id,
        table=table,
        place=engine.place,
        parts=tuple(results),
        rows_loaded=sum(result.note.rows for result in results),
        rows_rejected=sum(result.note.refused for result in results),
        seconds=timer.seconds,
        phases=timer.phases(sizing.up, sizing.down, sending, engine.has_sizes, loading),
        verified=False if short else end.verified,
        differences=(*end.differences, *short),
        digests=end.digests,
        rejects=rejects_folder(request, opened) if any(r.note.refused for r in results) else None,
        resumed=opened.resumed,
        notes=(
            *left,
            *(foreseen if not opened.resumed else ()),
            *opened.notes,
            *sizing.notes,
            *end.notes,
        ),
        before=note.details.before if request.keep_old and note.details.before else None,
        compute=ran,
        compared=end.compared,
        hashed=end.hashed is not None,
        moved=moved,
        scanned=scanned,
        requests=requests,
        stages=summed(result.stages for result in results),
        engine=version,
        promises=engine.promises,
    )


def _foreseen(keeper: Session, request: LoadRequest) -> tuple[str, ...]:
    """What there is to know of partitions before any is written.

    Raises RequestError where there would be too many.
    """
    if keeper.merging is None:
        return ()
    layout = keeper.merging.layout(request.table)
    wanted = read_file_layout(request.levers.file_layout)
    check_columns(wanted, request.layout.fields)
    partition = wanted.partition or layout.partition
    if not partition:
        return ()
    return foresee(
        [(one.source, one.layout or request.inputs_layout) for one in request.inputs], partition
    )


def _open(
    keeper: Session, request: LoadRequest, confirm: Confirm | None, pool: Pool
) -> tuple[LoadRequest, Opened]:
    """Opens the load, reading whole beforehand only what might be in already.

    A file is read once, as it is loaded, where the way it begins tells it from all that is in.
    """
    if request.open_engine().reads_parts and not request.run:
        # The engine knows its parts by what they hold.
        begun = {one.part_id for one in request.inputs if not one.content.whole}
        known = identify_whole(request.inputs, request.inputs_layout, pool, begun)
        request = replace(request, inputs=known)
    while True:
        try:
            opened = open_load(keeper, request, confirm)
            return replace(request, inputs=opened.inputs), opened
        except ContentInQuestionError as question:
            keeper.rollback()
            keeper.claims.end_turn(request.table)
            known = identify_whole(request.inputs, request.inputs_layout, pool, question.part_ids)
            request = replace(request, inputs=known)


def _finished(
    request: LoadRequest, opened: Opened, results: list[PartResult], confirm: Confirm | None
) -> Finished:
    session = request.open_engine().connect()
    try:
        return finish(session, request, opened.note, results, confirm)
    finally:
        session.rollback()
        session.close()


def _sealed(
    keeper: Session, opened: Opened, results: list[PartResult], arrivals: Arrivals
) -> Opened:
    """All parts are known: their number is noted, and what the files of the delivery hold.

    Raises OutsideError where the target has notes of a part that did not come again.
    """
    came = {result.note.part_id for result in results}
    other = [part.name for part in opened.parts.values() if part.part_id not in came]
    if other:
        raise OutsideError(
            f"{other[0]} of the unfinished load {opened.note.load_id} is in, and did not come "
            "again: the delivery is not what it was. Take it back with `splarn undo "
            f"{opened.note.load_id}`."
        )
    details = sealed(opened.note.details, len(came), arrivals.contents())
    note = replace(opened.note, details=details)
    keeper.notes.put_load(note)
    keeper.commit()
    return replace(opened, note=note)


def _short_of_rejects(results: list[PartResult]) -> tuple[str, ...]:
    """What differs between the rows that were refused and those that the rejects keep."""
    return tuple(
        f"{plural(result.note.refused, 'row')} of {result.path} were rejected and "
        f"{result.kept:,} of them "
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
        raise changed_since(note, "this", changed[0])
    clean_up(session, note, request.keep_old)
    paths = {entry.part_id: str(entry.path) for entry in request.inputs}
    results = [
        PartResult(paths.get(part.part_id, part.name), part, 0.0, 0, 0, None) for part in parts
    ]
    return LoadRecord(
        load_id=note.load_id,
        table=table,
        place=request.open_engine().place,
        parts=tuple(results),
        rows_loaded=sum(part.rows for part in parts),
        rows_rejected=sum(part.refused for part in parts),
        seconds=0.0,
        phases=dict.fromkeys(("queue", "load", "finish"), 0.0),
        verified=True if told else None,
        differences=(),
        digests=note.details.digests or (),
        rejects=None,
        resumed=True,
        notes=left,
        done_before=True,
        promises=request.open_engine().promises,
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
        noted = opened.parts.get(entry.part_id)
        new = noted is None or noted.state != "done"
        readers = int(away and (request.verify or not handed)) + int(handed and new)
        moved += readers * entry.source.size
        requests += 2 * readers if away else readers
    scanned = sum(result.raw_bytes for result in results) if handed and verified else 0
    return moved, scanned, requests
