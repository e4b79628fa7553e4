"""`splarn unload`: rows of a table or a query, back into parts."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from splarn.cli.completing import tables, targets
from splarn.cli.misuse import read
from splarn.cli.options import (
    AsJson,
    JobFile,
    OnCluster,
    PerMachine,
)
from splarn.core.units import parse_count, parse_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.target.outgoing import Wanted
    from splarn.core.unload import UnloadRecord


def unload(
    source: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="URL",
            help="Where the rows are; the job's target when left out.",
            autocompletion=targets,
        ),
    ] = None,
    table: Annotated[
        str | None,
        typer.Option(
            "--table",
            metavar="NAME",
            help="Table whose rows are written; the job's when left out.",
            autocompletion=tables,
        ),
    ] = None,
    query: Annotated[
        str | None,
        typer.Option("--query", metavar="TEXT", help="In place of a table, what a query gives."),
    ] = None,
    columns: Annotated[
        str | None,
        typer.Option("--columns", metavar="A,B", help="Only these columns, in this order."),
    ] = None,
    into: Annotated[
        Path, typer.Option("--into", metavar="DIR", help="New or empty folder for the parts.")
    ] = Path("unloaded"),
    format_: Annotated[
        str, typer.Option("--format", metavar="F", help="csv, jsonl or parquet.")
    ] = "csv",
    codec: Annotated[
        str | None,
        typer.Option(
            "--codec",
            metavar="NAME[:LEVEL]",
            help="As in shape; zstd:1 in Parquet.",
        ),
    ] = None,
    part_size: Annotated[
        str, typer.Option("--part-size", metavar="SIZE", help="About the unpacked size of a part.")
    ] = "64MiB",
    part_rows: Annotated[
        str | None,
        typer.Option("--part-rows", metavar="N", help="About so many rows a part instead."),
    ] = None,
    header: Annotated[
        bool, typer.Option("--header", help="Open every part with the header line.")
    ] = False,
    streams: Annotated[
        int, typer.Option("--streams", metavar="N", min=1, help="Parts written at once.")
    ] = 2,
    verify: Annotated[
        bool,
        typer.Option("--verify/--no-verify", help="Read the parts back, and ask the target."),
    ] = True,
    again: Annotated[
        bool, typer.Option("--again", help="Replace the parts that are in the folder.")
    ] = False,
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Write the rows of a table, or of a query, into parts with a manifest.

    Example: [bold]splarn unload --from sqlite:///larkmere.db --table passages --into back[/bold]

    Several streams read ranges of the table at once, each of which makes a part; a query comes in
    one piece. An interrupted unload goes on with the parts that are whole when the same command is
    given again and the table is what it was. With `splarn ship` and `splarn load` the parts go on
    to another engine.
    """
    from splarn.cli.context import Context
    from splarn.core.errors import RequestError
    from splarn.core.ledger import entry_id
    from splarn.core.shape.parts_format import PartsFormat
    from splarn.core.source.codecs import Packing
    from splarn.core.units import plural
    from splarn.core.unload import UnloadRequest
    from splarn.core.unload import unload as write_rows
    from splarn.engines import identity, opener_of_existing

    context = Context(job, as_json, None, cluster, per_machine)
    url = context.target(source, "--from")
    wanted = _wanted(context, table, query, columns)
    if format_ not in ("csv", "jsonl", "parquet"):
        raise RequestError(f"--format: {format_!r} is not known; use csv, jsonl or parquet.")
    if header and format_ != "csv":
        raise RequestError(f"--header: {format_} has none; leave it out, or write csv.")
    output = PartsFormat(
        format_,
        Packing.of_parts(codec, format_),
        read("--part-size", parse_size, part_size),
        0 if part_rows is None else read("--part-rows", parse_count, part_rows),
        header,
        converted=True,
    )
    open_engine = opener_of_existing(url)
    into = context.own(into)
    request = UnloadRequest(
        open_engine, identity(url), wanted, into, output, again=again, verify=verify
    )
    # Workers are copies of this process, which has opened no connection yet.
    with context.pools(True, writing=[into], into=open_engine) as pools:
        pool = pools.streams(streams, open_engine())
        record = write_rows(request, pool, context.out.progress())
    document = {"unload_id": entry_id("unload"), **unload_document(record, wanted)}
    what = wanted.table or "a query"
    summary = (
        f"{plural(record.rows, 'row')} of {what} into {plural(len(record.manifest.parts), 'part')}"
    )
    if record.differences:
        summary += ", not what the target held"
    context.note("unload", str(document["unload_id"]), summary, document, seconds=record.seconds)
    _show(context.out, record, wanted)
    context.out.document(document)
    return 1 if record.differences else 0


def _wanted(context: Context, table: str | None, query: str | None, columns: str | None) -> Wanted:
    from splarn.core.errors import RequestError
    from splarn.core.target.outgoing import Wanted

    if query is not None:
        if table is not None or columns is not None:
            raise RequestError("--query says itself what comes: leave --table and --columns out.")
        if not query.strip().strip(";").strip():
            raise RequestError("--query is empty: write what is to come, as a SELECT.")
        return Wanted(query=query.strip().rstrip(";").rstrip())
    names = tuple(one.strip() for one in (columns or "").split(",") if one.strip())
    return Wanted(context.table(table), names=names)


def unload_document(record: UnloadRecord, wanted: Wanted) -> dict[str, object]:
    """What was unloaded, as JSON."""
    manifest = record.manifest
    return {
        "manifest": str(manifest.path),
        "source": record.place,
        "table": wanted.table or None,
        "query": wanted.query or None,
        "rows": record.rows,
        "parts": len(manifest.parts),
        "parts_kept": record.kept,
        "bytes": manifest.bytes,
        "raw_bytes": manifest.raw_bytes,
        "streams": record.streams,
        "seconds": record.seconds,
        "verified": record.verified,
        "verified_by": record.by if record.verified is not None else None,
        "differences": list(record.differences),
    }


def _show(out: Output, record: UnloadRecord, wanted: Wanted) -> None:
    from splarn.core.units import plural, show_duration, show_size

    manifest = record.manifest
    sizes = [part.bytes for part in manifest.parts]
    size = show_size(manifest.bytes)
    if len(sizes) > 1:
        size += f", {show_size(min(sizes))} to {show_size(max(sizes))} each"
    rate = ""
    if manifest.raw_bytes >= 1e6:
        # Of little the start of the command would be all that it tells.
        rate = f", {manifest.raw_bytes / record.seconds / 1e6:,.0f} MB/s unpacked"
    out.say(
        f"{plural(record.rows, 'row')} of {record.place} in {plural(len(sizes), 'part')} ({size}) "
        f"in {show_duration(record.seconds)} by {plural(record.streams, 'stream')}{rate}."
    )
    if record.kept:
        out.note(f"{plural(record.kept, 'part')} of an earlier try were whole and were kept.")
    if record.verified:
        told = "count, nulls, sums and extremes of every column are those of the table"
        if record.by == "count":
            what = "query" if wanted.query else "table"
            told = f"as many rows as the {what} gives, each of which reads back"
        out.good(f"Verified: {told}.")
    for difference in record.differences:
        out.bad(f"The parts are not what the target held: {difference}.")
    if record.differences:
        out.note("Others may have changed the table meanwhile: give the same command with --again.")
    out.say(f"The manifest is {manifest.path}.")
