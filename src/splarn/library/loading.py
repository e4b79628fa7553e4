"""Loading for real: load, undo, run."""

from __future__ import annotations

from collections.abc import Callable
from os import PathLike
from pathlib import Path
from typing import Any

from splarn.core.check.limit import BadRows
from splarn.core.errors import RequestError
from splarn.core.flow.watching import Watching
from splarn.core.ledger import FOLDER, Ledger
from splarn.core.load import LoadRecord, LoadRequest, inputs_from_files, inputs_from_manifest
from splarn.core.load import load as load_parts
from splarn.core.load import undo as take_back
from splarn.core.load.undo import Undone
from splarn.core.run.begun import begun_loads, note_begun
from splarn.core.run.flow import RunRecord, moved_from, run_plan
from splarn.core.run.kinds import by_table, files_of
from splarn.core.run.noting import held_to_earlier, note_run
from splarn.core.shape.manifest import Manifest
from splarn.core.target.notes import LoadNote
from splarn.core.tuning.plan_file import Plan, read_plan
from splarn.core.units import plural
from splarn.core.work.machine import describe_machine
from splarn.core.work.owner import owned
from splarn.core.work.progress import Progress
from splarn.depots.arrived import inputs_at, manifest_at
from splarn.engines import identity, opener, opener_of_existing
from splarn.library.given import (
    Files,
    LayoutLike,
    bad_rows_of,
    count_of,
    depot_of,
    layout_of,
    levers_of,
    manifest_in,
    places,
)
from splarn.library.where import anywhere, own, pools


def load(
    files: Files | Manifest,
    to: str,
    table: str,
    *,
    layout: LayoutLike = None,
    streams: int = 1,
    batch_rows: int = 50_000,
    table_mode: str = "create",
    bad_rows: int | str | BadRows = 0,
    rejects: str | PathLike[str] = "rejects",
    again: bool = False,
    verify: bool = True,
    remove_more: bool = False,
    tier: str | None = None,
    ledger: str | PathLike[str] | None = None,
    progress: Progress | None = None,
    **levers: str,
) -> LoadRecord:
    """Fills a table from files or a manifest's parts, each row once, and verifies it.

    `to` is the target's URL; `${NAME}` in it comes from the environment. Each of `streams` commits
    after `batch_rows` rows. `table_mode` is create, append, empty, replace or renew, which puts
    rows in the place of those in their partitions; empty and replace remove more rows than come
    only where `remove_more` allows that. So many `bad_rows` may be set aside
    into the folder `rejects`. `levers` are durability, indexes and route. The same call goes
    on with an interrupted load. Where the folder of a `ledger` is given, it is noted there.
    `LoadRecord.verified` is True only where the table was held against what was read, and equal.
    Raises RequestError where nothing can be loaded as asked or content is already in,
    ShortfallError where too many rows are bad, OutsideError when the target fails.
    """
    manifest = manifest_in(files)
    arrived = manifest_at(files) if isinstance(files, str) else None
    if layout is not None and (manifest or arrived) is not None:
        raise RequestError("A manifest has its own layout: leave out layout.")
    if manifest is not None:
        inputs, known = inputs_from_manifest(manifest), manifest.layout
    elif arrived is not None:
        inputs, known = inputs_at(*arrived), arrived[1].layout
    else:
        assert not isinstance(files, Manifest), "a manifest is one"
        found = places(files)
        known = layout_of(layout, found)
        inputs = inputs_from_files(found, known)
    open_engine, target_id = opener(anywhere(to)), identity(to)
    book = None if ledger is None else Ledger(Path(ledger))
    try:
        request = LoadRequest(
            open_engine,
            table,
            known,
            inputs,
            batch_rows=batch_rows,
            table_mode=table_mode,
            bad_rows=bad_rows_of(bad_rows),
            rejects=own(rejects),
            again=again,
            verify=verify,
            levers=levers_of(levers),
            tier=tier,
            begun=() if book is None else begun_loads(book, target_id),
        )
        keeps = [own(rejects)] if request.bad_rows.count != 0 else []
        read_from = [one.path for one in inputs]
        with pools(reading=read_from, writing=keeps, into=open_engine) as opened:
            record = load_parts(
                request,
                opened.streams(count_of(streams, "streams"), open_engine()),
                progress=progress,
                confirm=_only_if(remove_more),
                on_begin=_noting(book, target_id),
            )
        if book is not None and not record.done_before:
            told = {"target_id": target_id, "machine": describe_machine()}
            summary = (
                f"{record.table}: {plural(record.rows_loaded, 'row')}, {plural(streams, 'stream')}"
            )
            document = {**record.as_json(), **told}
            book.put("load", record.load_id, summary, document, seconds=record.seconds)
        return record
    finally:
        if book is not None:
            book.close()


def undo(load_id: str, to: str, *, with_changes: bool = False) -> Undone:
    """Takes a load back, whole or unfinished, where that is exact. `load_id` may be its start.

    What was changed in its rows or in the table since goes too only where `with_changes` says so.
    Raises RequestError when there is no such load or it cannot be taken back exactly, OutsideError
    when the target fails.
    """
    return take_back(opener(to), load_id, with_changes=with_changes)


def run(
    plan: Plan | str | PathLike[str],
    *,
    from_url: str | None = None,
    from_table: str | None = None,
    parts: str | PathLike[str] | None = None,
    keep_parts: bool = False,
    rejects: str | PathLike[str] = "rejects",
    again: bool = False,
    remove_more: bool = False,
    ledger: str | PathLike[str] | None = None,
    heard: Callable[[str, dict[str, Any]], None] | None = None,
) -> RunRecord:
    """Carries a plan out: parts are made, shipped and loaded, all at the same time, and verified.

    The same call goes on with an interrupted run. Parts are made in the folder `parts` and removed
    once they are in, unless `keep_parts`. `heard` is told what happens: a stage, and what of it.
    Where the folder of a `ledger` is given, the delivery is held against those noted there before,
    and the run is noted, so that later forecasts learn from it.
    With `from_url` the rows are those of a table of another target rather than of the plan's files,
    `from_table` or one called like the plan's; `RunRecord.moved` says how they compare.
    Raises RequestError where source or target are not what was planned, and what `load` raises.
    """
    chosen = plan if isinstance(plan, Plan) else read_plan(Path(plan))
    base = own("" if ledger is None else ledger)
    if len(by_table(chosen, base)) > 1:
        raise RequestError(
            "This plan is of several tables, which `splarn run` carries out one after the other."
        )
    open_engine, target_id = opener(anywhere(chosen.target)), identity(chosen.target)
    depot = depot_of(chosen.depot or None)
    folder = base / FOLDER / "parts" / chosen.id if parts is None else own(parts)
    watching = Watching(chosen.volume.bytes)
    if heard is not None:
        watching.heard = heard
    moving = None
    if from_url is not None:
        place, table = identity(from_url), from_table or chosen.table
        moving = moved_from(
            opener_of_existing(anywhere(from_url)), place, table, chosen, target_id, folder
        )
    elif from_table is not None:
        raise RequestError("A from_table is of the target of a from_url: name that too.")
    book = None if ledger is None else Ledger(base)
    try:
        delivery = None
        if book is not None and moving is None:
            delivery = held_to_earlier(book, chosen, base, target_id)
        read_from = [] if moving else [one for kind in files_of(chosen, base) for one in kind.paths]
        aside = own(rejects)
        with (
            owned(folder),
            pools(reading=read_from, writing=[folder.parent, aside], into=open_engine) as opened,
        ):
            record = run_plan(
                chosen,
                open_engine,
                base,
                folder,
                opened,
                watching,
                rejects=aside,
                again=again,
                keep_parts=keep_parts,
                confirm=_only_if(remove_more),
                begun_loads=() if book is None else begun_loads(book, target_id),
                on_begin=_noting(book, target_id),
                landing=depot.landing(chosen.id) if chosen.depot else None,
                moving=moving,
            )
        if book is not None and not record.load.done_before:
            told = record.as_json(chosen)
            if delivery is not None:
                told["delivery"] = delivery.as_json()
            note_run(book, chosen, record, told, target_id, depot_of(chosen.way or None).shown)
        return record
    finally:
        if book is not None:
            book.close()


def _only_if(allowed: bool) -> Callable[[int, int], bool]:
    """The answer to whether more rows may be removed than come."""
    return lambda removed, coming: allowed


def _noting(book: Ledger | None, target_id: str) -> Callable[[LoadNote], None] | None:
    return None if book is None else lambda note: note_begun(book, target_id, note)
