"""`splarn run`: a plan carried out."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.options import (
    AsJson,
    JobFile,
    OnCluster,
    PerMachine,
    Settings,
    Yes,
)
from splarn.cli.voice import VOICE

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.run.drift import Delivery
    from splarn.core.run.flow import RunRecord
    from splarn.core.source.places import Place
    from splarn.core.tuning.plan_file import Plan
    from splarn.core.unload import UnloadRequest


def run(
    plan: Annotated[Path, typer.Argument(metavar="PLAN", help="Plan written by `splarn plan`.")],
    parts: Annotated[
        Path | None,
        typer.Option("--parts", metavar="DIR", help="Where the parts are made meanwhile."),
    ] = None,
    keep_parts: Annotated[
        bool, typer.Option("--keep-parts", help="Leave the parts there when they are in.")
    ] = False,
    again: Annotated[
        bool, typer.Option("--again", help="Load content again that is already in.")
    ] = False,
    dry: Annotated[
        bool, typer.Option("--dry", help="Say every step and what it is expected to take; do none.")
    ] = False,
    adapt: Annotated[
        bool,
        typer.Option(
            "--adapt",
            help="Change load streams or tier where loading is late, within the plan's limits.",
        ),
    ] = False,
    source: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="URL",
            help="Take the rows of a table of this target in place of the plan's files.",
        ),
    ] = None,
    source_table: Annotated[
        str | None,
        typer.Option(
            "--from-table", metavar="NAME", help="Its name; that of the plan's table when left out."
        ),
    ] = None,
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
    settings: Settings = None,
    yes: Yes = False,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Carry a plan out: parts are made, shipped and loaded, all at the same time, and verified.

    Example: [bold]splarn run plan.json --set month=2031-07 --log run.jsonl[/bold]

    An interrupted run goes on where it stopped when the same command is given again. A delivery
    that is unlike those before it is refused before a row is loaded; the job's run.may_pass says
    what may differ.
    """
    from splarn.cli.context import Context
    from splarn.cli.load import load_code
    from splarn.cli.running import anew, hold_to_earlier, say_steps, taken_apart
    from splarn.core.errors import RequestError
    from splarn.core.ledger import FOLDER
    from splarn.core.parameters import parse_settings
    from splarn.core.reading.sources import OtherColumnsError
    from splarn.core.run.kinds import by_table
    from splarn.core.shape.folder import part_name
    from splarn.core.tuning.plan_file import read_plan

    context = Context(job, as_json, None, cluster, per_machine)
    written = read_plan(plan)
    chosen = written.with_parameters(parse_settings(settings or ()))
    if chosen is not written:
        chosen = anew(context, chosen)
    root = context.own(parts or context.job.folder / FOLDER / "parts" / chosen.id)
    options = RunOptions(keep_parts, again, adapt, yes)
    if source is not None or source_table is not None:
        if source is None or dry:
            what = "--dry says the steps of files" if dry else "--from-table goes with --from"
            raise RequestError(f"{what}: leave it out.")
        moving = moved(context, source, source_table or chosen.table, chosen, root)
        context.check_ledger()
        document, record = carry_out(context, chosen, root, None, options, moving)
        context.out.document(document)
        short = record.moved is not None and record.moved.differences
        return max(load_code(record.load), 1 if short else 0)
    # All of it is looked at before any of it is loaded.
    tables = by_table(chosen, context.job.folder)
    try:
        looks = [hold_to_earlier(context, one) for one in tables]
    except OtherColumnsError:
        tables = by_table(taken_apart(context, chosen), context.job.folder)
        looks = [hold_to_earlier(context, one) for one in tables]
    folders = [root, *(root.with_name(f"{root.name}-{part_name(one.table)}") for one in tables[1:])]
    if dry:
        steps = [say_steps(context, *one) for one in zip(tables, folders, looks, strict=True)]
        context.out.document({**steps[0], **({"others": steps[1:]} if steps[1:] else {})})
        return 0
    context.check_ledger()
    documents, code = [], 0
    for one, folder, delivery in zip(tables, folders, looks, strict=True):
        document, record = carry_out(context, one, folder, delivery, options)
        documents.append(document)
        code = max(code, load_code(record.load))
    # One table has what it ever had; others come beside it.
    others = {"others": documents[1:]} if documents[1:] else {}
    context.out.document({**documents[0], **others})
    return code


def moved(context: Context, url: str, table: str, plan: Plan, folder: Path) -> UnloadRequest:
    """What asks for the rows of another table than the plan's. Raises RequestError for no such."""
    from splarn.core.run.flow import moved_from
    from splarn.engines import identity, opener_of_existing

    open_engine = opener_of_existing(context.anywhere(url))
    return moved_from(open_engine, identity(url), table, plan, identity(plan.target), folder)


def _files(plan: Plan, base: Path) -> list[Place]:
    from splarn.core.run.kinds import files_of

    return [path for one in files_of(plan, base) for path in one.paths]


@dataclass(frozen=True)
class RunOptions:
    """What the command was given for all of its tables."""

    keep_parts: bool
    again: bool
    adapt: bool
    yes: bool


def carry_out(
    context: Context,
    chosen: Plan,
    folder: Path,
    delivery: Delivery | None,
    options: RunOptions,
    moving: UnloadRequest | None = None,
) -> tuple[dict[str, Any], RunRecord]:
    """Carries a plan out for one table, shows what came of it and notes that."""
    from contextlib import ExitStack

    from splarn.cli.flow_view import FlowView
    from splarn.cli.load import agree, begun_before, note_begun, say_promises
    from splarn.cli.running import ceilings_of, show_run, telling
    from splarn.core.flow.watching import Watching
    from splarn.core.run.flow import run_plan
    from splarn.core.run.noting import note_run
    from splarn.core.run.steering import Foresight, Steering
    from splarn.core.source.places import is_url
    from splarn.core.source.secrets import filled
    from splarn.core.work.owner import owned
    from splarn.engines import identity, opener

    out = context.out
    open_engine, target_id = opener(context.anywhere(chosen.target)), identity(chosen.target)
    say_promises(out, open_engine)
    landing = None
    if chosen.depot:
        from splarn.depots.landing import DepotLanding

        landing = DepotLanding(filled(chosen.depot, "The depot"), chosen.id)
    base = context.own(context.job.folder)
    sources = () if moving else chosen.sources
    away = any(map(is_url, (*sources, chosen.depot)))
    with ExitStack() as held:
        held.enter_context(owned(folder))
        pools = held.enter_context(
            context.pools(
                not away,
                reading=[] if moving else _files(chosen, base),
                writing=[folder.parent, context.own(context.rejects())],
                into=open_engine,
            )
        )
        watching = Watching(chosen.volume.bytes)
        looking = out.watched
        steering = Steering(chosen, watching, open_engine().reads_parts) if options.adapt else None
        view = FlowView(
            out.err if looking else None, steering or Foresight(chosen, watching),
            ceilings_of(context, chosen), (lambda _: None) if moving else out.note,
        )  # fmt: skip

        def heard(what: str, told: dict[str, Any]) -> None:
            VOICE.heard(what, told)
            view.look(what, told)

        watching.heard = heard
        heard("begin", {"plan": chosen.id, "parameters": chosen.parameters, "table": chosen.table})
        with view, telling(heard):
            record = run_plan(
                chosen,
                open_engine,
                base,
                folder,
                pools,
                watching,
                rejects=context.own(context.rejects()),
                again=options.again,
                keep_parts=options.keep_parts,
                confirm=agree(options.yes, out.as_json),
                begun_loads=begun_before(context, chosen.target),
                on_begin=note_begun(context, chosen.target),
                landing=landing,
                steering=steering,
                moving=moving,
            )
    document = record.as_json(chosen)
    if not record.load.done_before:
        told = document if delivery is None else {**document, "delivery": delivery.as_json()}
        way = context.shown_depot(chosen.way)
        context.noting(
            lambda ledger: note_run(ledger, chosen, record, told, target_id, way, pools.described)
        )
    show_run(context, chosen, record, document)
    _say_moved(out, record)
    heard("end", {
        "load_id": record.load.load_id, "rows": record.load.rows_loaded,
        "rejected": record.load.rows_rejected, "seconds": record.seconds,
        "phases": record.phases, "verified": record.load.verified,
    })  # fmt: skip
    return document, record


def _say_moved(out: Output, record: RunRecord) -> None:
    """How rows that came from a table are like those that it held."""
    from splarn.core.units import plural

    moved = record.moved
    if moved is None:
        return
    for difference in moved.differences:
        out.bad(f"What came out of {moved.table} is not what {moved.place} held: {difference}.")
    if moved.differences:
        out.note(
            f"`splarn undo {record.load.load_id}` takes it back; others may have changed the table "
            "meanwhile."
        )
    elif moved.verified:
        out.good(
            f"Verified: count, nulls, sums and extremes of every column are those of {moved.table} "
            f"in {moved.place}, {plural(moved.rows, 'row')}."
        )
