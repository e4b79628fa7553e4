"""`splarn load`: files or parts into a table."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.misuse import read
from splarn.cli.options import (
    NO_CHOICES,
    AsJson,
    Choices,
    JobFile,
    LayoutFile,
    LoadTier,
    OnCluster,
    Paths,
    PerMachine,
    ReadTier,
    Settings,
    TableName,
    TargetUrl,
    Yes,
    takes_levers,
)
from splarn.cli.tables import Column, name, told_apart
from splarn.core.target.levers import LOAD_LEVERS
from splarn.core.units import plural

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.layout import Layout
    from splarn.core.load import Input, LoadRecord
    from splarn.core.load.task import PartResult
    from splarn.core.target.notes import LoadNote
    from splarn.core.target.session import OpenEngine


@takes_levers(LOAD_LEVERS, one=True)
def load(
    paths: Paths = None,
    to: TargetUrl = None,
    table: TableName = None,
    layout: LayoutFile = None,
    streams: Annotated[
        int, typer.Option("--streams", metavar="N", min=1, help="Connections that load at once.")
    ] = 1,
    batch_rows: Annotated[
        str,
        typer.Option("--batch-rows", metavar="N", help="Rows between commits; 0 is a whole part."),
    ] = "50_000",
    table_mode: Annotated[
        str | None,
        typer.Option(
            "--table-mode", metavar="MODE", help="create, append, empty, replace or renew."
        ),
    ] = None,
    bad_rows: Annotated[
        str | None,
        typer.Option("--bad-rows", metavar="HOW", help="halt at a bad row, or set-aside."),
    ] = None,
    bad_row_limit: Annotated[
        str | None,
        typer.Option(
            "--bad-row-limit", metavar="N", help="Most rows that may be set aside, as 500 or 1%."
        ),
    ] = None,
    rejects: Annotated[
        Path | None,
        typer.Option("--rejects", metavar="DIR", help="Where rejects go; the job's, or rejects."),
    ] = None,
    mended: Annotated[
        Path | None,
        typer.Option("--mended", metavar="FILE", help="Load a mended rejects file, alone."),
    ] = None,
    columns: Annotated[
        str | None,
        typer.Option("--columns", metavar="NAMES", help="Store only these fields, as a,b,c."),
    ] = None,
    numbers: Annotated[
        str | None,
        typer.Option(
            "--numbers",
            metavar="WHOSE",
            help="Whose values a column gets that the table numbers: files or table.",
        ),
    ] = None,
    choices: Choices = NO_CHOICES,
    tier: LoadTier = None,
    read_tier: ReadTier = None,
    keep_old: Annotated[
        bool,
        typer.Option(
            "--keep-old/--no-keep-old",
            help="Keep the rows that empty and replace remove, for undo.",
        ),
    ] = True,
    again: Annotated[
        bool, typer.Option("--again", help="Load content again that is already in.")
    ] = False,
    parts_anywhere: Annotated[
        bool,
        typer.Option("--parts-anywhere", help="Let a manifest name parts outside its folder."),
    ] = False,
    verify: Annotated[
        bool, typer.Option("--verify/--no-verify", help="Hold the table against what was read.")
    ] = True,
    yes: Yes = False,
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
    settings: Settings = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Fill a table from files or a manifest, each row once, and verify it.

    Example: [bold]splarn load parts --to sqlite:///larkmere.db --table passages[/bold]

    An interrupted load goes on where it stopped when the same command is given again. Rejected rows
    keep their raw record: mend that in the rejects file and load it with --mended.
    """
    from splarn.cli.context import Context
    from splarn.cli.costs import show_cost
    from splarn.core.load import LoadRequest
    from splarn.core.load import load as load_parts
    from splarn.core.target.levers import LoadLevers
    from splarn.core.units import parse_count, plural
    from splarn.engines import identity, opener

    context = Context(job, as_json, settings, cluster, per_machine)
    out = context.out
    target = context.target(to)
    open_engine = opener(target)
    set_aside = context.own(rejects or context.rejects())
    if mended is not None:
        inputs, chosen_layout = _mended(context, mended, set_aside / "mended", paths, layout)
        table_mode = table_mode or "append"
    else:
        inputs, chosen_layout = _inputs(context, paths, layout, parts_anywhere)
    request = LoadRequest(
        open_engine,
        context.table(table, chosen_layout.name),
        chosen_layout,
        inputs,
        batch_rows=read("--batch-rows", parse_count, batch_rows),
        table_mode=table_mode or context.job.target.table_mode,
        bad_rows=context.bad_rows(bad_rows, bad_row_limit),
        rejects=set_aside,
        again=again,
        verify=verify,
        levers=LoadLevers(**choices),
        columns=tuple(name.strip() for name in columns.split(",")) if columns else None,
        numbers=numbers,
        keep_old=keep_old,
        tier=tier or context.job.target.tier,
        read_tier=read_tier or context.job.target.read_tier,
    )
    context.check_ledger()
    say_promises(out, open_engine)
    request = replace(request, begun=begun_before(context, target))
    # What is reached over a line has opened connections, which no copy of this process may use.
    here = all(isinstance(one.path, Path) for one in inputs)
    keeps = [set_aside] if request.bad_rows.count != 0 else []
    read_from = [one.path for one in inputs]
    with context.pools(here, reading=read_from, writing=keeps, into=open_engine) as pools:
        machine, machines = pools.described, pools.machines
        record = load_parts(
            request,
            pools.streams(streams, open_engine()),
            progress=out.progress(),
            confirm=agree(yes, as_json),
            on_begin=note_begun(context, target),
        )
    priced = (
        {} if record.done_before else context.priced(lambda tier: record.usage(tier).on(machines))
    )
    document = {**record.as_json(), **priced}
    if not record.done_before:
        summary = (
            f"{record.table}: {plural(record.rows_loaded, 'row')}, {plural(streams, 'stream')}"
        )
        shown = ", ".join(
            (
                plural(streams, "stream"),
                f"{plural(request.batch_rows, 'row')} a batch" if request.batch_rows else "whole",
                *request.levers.unusual(),
            )
        )
        noted = {
            **document,
            "target_id": identity(target),
            "machine": machine,
            "settings": shown,
        }
        context.note("load", record.load_id, summary, noted, seconds=record.seconds)
    if not record.done_before:
        show_parts(out, record)
    show_load(out, record)
    show_cost(out, priced, machines)
    out.document(document)
    return load_code(record)


def _inputs(context: Context, paths: list[str] | None, layout: Path | None, anywhere: bool) -> Any:
    from splarn.core.errors import RequestError
    from splarn.core.load import inputs_from_files, inputs_from_manifest
    from splarn.core.shape.manifest import UNFINISHED, is_manifest, read_manifest
    from splarn.core.source.places import is_url

    alone = paths[0] if paths and len(paths) == 1 else ""
    if alone and not is_url(alone) and is_manifest(Path(alone)):
        if layout is not None:
            raise RequestError("A manifest has its own layout: leave out --layout.")
        manifest = read_manifest(context.own(Path(alone)), anywhere)
        return inputs_from_manifest(manifest), manifest.layout
    if is_url(alone):
        from splarn.depots.arrived import inputs_at, manifest_at

        arrived = manifest_at(alone)
        if arrived is not None:
            if layout is not None:
                raise RequestError("A manifest has its own layout: leave out --layout.")
            return inputs_at(*arrived), arrived[1].layout
    for path in paths or []:
        if (Path(path) / UNFINISHED).exists():
            read_manifest(Path(path))
    files = context.paths(paths)
    chosen_layout = context.layout(layout, files)
    return inputs_from_files(files, chosen_layout), chosen_layout


def _mended(
    context: Context, mended: Path, into: Path, paths: list[str] | None, layout: Path | None
) -> tuple[tuple[Input, ...], Layout]:
    from splarn.core.errors import RequestError
    from splarn.core.layout.descriptor import read_layout
    from splarn.core.load import inputs_from_files
    from splarn.core.load.mended import mended_source

    if paths:
        raise RequestError("A mended rejects file is loaded alone: leave the other files out.")
    given = layout or (
        context.job.folder / context.job.source.layout if context.job.source.layout else None
    )
    if given is None:
        raise RequestError("Rejects do not say how they read: give the --layout of their source.")
    path, chosen_layout = mended_source(mended, read_layout(given), into)
    return inputs_from_files([path], chosen_layout), chosen_layout


def note_begun(context: Context, target: str) -> Callable[[LoadNote], None]:
    """Notes in the ledger that a load has begun, so that its notes are missed if they go."""
    from splarn.core.run.begun import note_begun as note
    from splarn.engines import identity

    place = identity(target)
    return lambda found: context.noting(lambda ledger: note(ledger, place, found))


def begun_before(context: Context, target: str) -> tuple[tuple[str, str], ...]:
    """Loads into a target that this ledger saw begin and never end, each with its table."""
    from splarn.core.run.begun import begun_loads
    from splarn.engines import identity

    with context.ledger() as ledger:
        return begun_loads(ledger, identity(target))


def agree(yes: bool, as_json: bool) -> Callable[[int, int], bool] | None:
    """Asks before more rows are removed than come, where someone can answer; None agrees."""

    def ask(rows: int, coming: int) -> bool:
        question = (
            f"Remove the {plural(rows, 'row')} that are in the table for the {coming:,} that come?"
        )
        return agreed(question, yes, as_json)

    return None if yes else ask


def agreed(question: str, yes: bool, as_json: bool) -> bool:
    """The answer to a question, or what --yes says; no where nobody can answer."""
    if yes:
        return True
    if as_json or not sys.stdin.isatty():
        return False
    return typer.confirm(question)


def say_promises(out: Output, open_engine: OpenEngine) -> None:
    """Says before the first row what holds of an engine that is described, and what does not."""
    for sentence in open_engine().promises:
        out.note(sentence)


def say_restored(out: Output, open_engine: OpenEngine) -> None:
    """Puts back and says what a killed load left of a compute that has sizes."""
    from splarn.core.load.sizing import restore_left

    if open_engine().reads_parts:
        for sentence in restore_left(open_engine):
            out.note(sentence)


def show_parts(out: Output, record: LoadRecord) -> None:
    """The parts of a load, and what is not the same for all of them."""
    from splarn.core.units import plural, show_count, show_duration

    most = 8
    names = told_apart([part.path for part in record.parts])[1]
    columns: list[tuple[str | Column, Callable[[PartResult], str]]] = [
        (">rows", lambda part: show_count(part.note.rows)),
        (Column(">time", 1), lambda part: show_duration(part.seconds)),
    ]
    # What is the same for all parts says nothing.
    if any(part.note.refused for part in record.parts):
        columns.insert(
            1,
            (">rejected", lambda part: show_count(part.note.refused) if part.note.refused else ""),
        )
    if any(part.note.state != "done" for part in record.parts):
        columns.insert(0, ("status", lambda part: part.note.state))
    out.table(
        [name("part"), *(head for head, _ in columns)],
        (
            (called, *(shown(part) for _, shown in columns))
            for called, part in zip(names[:most], record.parts, strict=False)
        ),
    )
    if len(record.parts) > most:
        out.say(f"… and {plural(len(record.parts) - most, 'more part')}.")


def show_load(out: Output, record: LoadRecord) -> None:
    """The outcome of a load in sentences."""
    from splarn.core.units import show_count, show_duration

    if record.done_before:
        if record.verified is None:
            out.note(
                f"The load {record.load_id} has brought this content into {record.table} of "
                f"{record.place} by its notes; nothing tells its rows from others there, so they "
                "were not looked at. Nothing was loaded; --again loads them twice."
            )
            return
        found = "they are there as it left them"
        if record.promises:
            found = "by count, sums and extremes of every column they are there as it left them"
        out.good(
            f"Already in: the load {record.load_id} brought "
            f"{plural(round(record.rows_loaded), 'row')} of this content into {record.table} of "
            f"{record.place}, and {found}. Nothing was loaded; --again loads them twice."
        )
        return
    speed = record.rows_loaded / max(record.phases["load"], 1e-9)
    phases = record.phases
    # An engine that is described is timed by our own.
    clock = " of its own clock" if record.compute and not record.promises else ""
    sized = phases.get("size", 0)
    sizing = f"sizing {show_duration(sized)}, " if sized else ""
    out.say(
        f"Load {record.load_id}: {plural(round(record.rows_loaded), 'row')} into {record.table} of "
        f"{record.place}, {show_count(record.rows_rejected)} rejected, in "
        f"{show_duration(record.seconds)}{clock} ({sizing}loading "
        f"{show_duration(phases['load'])} at {show_count(speed)} rows/s, verifying "
        f"{show_duration(phases['finish'])})."
    )
    for note in record.notes:
        out.note(note)
    if record.before is not None:
        out.note(
            f"What was in {record.table} before is kept in {record.before}, so that "
            f"`splarn undo {record.load_id}` can bring it back."
        )
    if record.resumed:
        out.note("This went on with an interrupted load; rows already in were not sent again.")
    if record.rejects is not None:
        out.note(f"The rejected rows are in {record.rejects}.")
    if record.verified and record.hashed:
        out.good(
            "Verified: the load's rows in the table are those that were read, by a hash of every "
            "cell."
        )
    elif record.verified:
        also = ""
        if record.compared:
            looked = plural(round(record.compared), "row")
            verb = "is" if round(record.compared) == 1 else "are"
            also = f", and {looked} read back {verb} the same value by value"
        out.good(
            f"Verified: count, nulls, sums and extremes of every column are what was read{also}."
        )
    elif record.verified is None:
        out.note("Not verified.")
    for difference in record.differences:
        out.bad(f"The table differs from what was read: {difference}.")


def load_code(record: LoadRecord) -> int:
    """The exit code: 1 when the table is not what was read."""
    return 1 if record.differences else 0
