"""`splarn compact`: the small files of a lake table merged, and what nothing needs removed."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Annotated

import typer

from splarn.cli.completing import tables, targets
from splarn.cli.misuse import read
from splarn.cli.options import (
    AsJson,
    JobFile,
    OnCluster,
    PerMachine,
    Yes,
)
from splarn.core.units import parse_duration, parse_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.lake.compaction import CompactPlan, CompactRecord
    from splarn.core.target.merging import Leftover
    from splarn.core.target.session import OpenEngine


def compact(
    to: Annotated[
        str | None,
        typer.Option(
            "--to",
            metavar="URL",
            help="The lake; the job's target when left out.",
            autocompletion=targets,
        ),
    ] = None,
    table: Annotated[
        str | None,
        typer.Option(
            "--table",
            metavar="NAME",
            help="Its table; the job's when left out.",
            autocompletion=tables,
        ),
    ] = None,
    size: Annotated[
        str | None,
        typer.Option("--size", metavar="SIZE", help="About the size of files; the table's own."),
    ] = None,
    sort: Annotated[
        str | None,
        typer.Option("--sort", metavar="A,B", help="Write all files anew, sorted by columns."),
    ] = None,
    partitions: Annotated[
        list[str] | None,
        typer.Option("--partition", metavar="P", help="Only of this one, as 2031-04; repeatable."),
    ] = None,
    older_than: Annotated[
        str | None,
        typer.Option("--older-than", metavar="AGE", help="Only files that are older, as 7d."),
    ] = None,
    forget: Annotated[
        str | None,
        typer.Option(
            "--forget",
            metavar="AGE",
            help="Then remove states of the table that were over so long ago, as 30d.",
        ),
    ] = None,
    strays: Annotated[
        str | None,
        typer.Option(
            "--strays",
            metavar="AGE",
            help="Then remove files so old that no state of the table has.",
        ),
    ] = None,
    streams: Annotated[
        int, typer.Option("--streams", metavar="N", min=1, help="Merges at once.")
    ] = 2,
    history: Annotated[
        bool, typer.Option("--history", help="Only list what the table held, and since when.")
    ] = False,
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Only say what it would do, take and save.")
    ] = False,
    yes: Yes = False,
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Merge the small files of a lake table towards a size, partition by partition.

    Example: [bold]splarn compact --to lake:///larkmere-lake --table passages[/bold]

    It says first what that should take and save, by a trial on a few files. All comes in by one
    commit; what others commit meanwhile stays. An interrupted compaction goes on with the files it
    has written. What was before stays reachable until [bold]--forget[/bold] removes it, which says
    first what is lost by it.
    """
    from splarn.cli.context import Context
    from splarn.core.errors import RequestError
    from splarn.core.lake.compaction import CompactRequest
    from splarn.core.lake.compaction import compact as merge
    from splarn.core.ledger import entry_id
    from splarn.core.units import plural
    from splarn.core.work.arrow import give_memory_back
    from splarn.engines import opener

    context = Context(job, as_json, None, cluster, per_machine)
    out = context.out
    open_engine = opener(context.target(to))
    ages = {
        "--older-than": older_than, "--forget": forget, "--strays": strays,
    }  # fmt: skip
    now = time.time()
    if strays is not None and read("--strays", parse_duration, strays) < 3600:
        raise RequestError(
            f"--strays: files younger than an hour may be of a load that is under way; {strays} is "
            "too short, give 1h or more."
        )
    before = {
        option: now - read(option, parse_duration, age)
        for option, age in ages.items() if age is not None
    }  # fmt: skip
    request = CompactRequest(
        open_engine,
        context.table(table),
        None if size is None else read("--size", parse_size, size),
        tuple(one.strip() for one in (sort or "").split(",") if one.strip()),
        tuple(partitions or ()),
        before.get("--older-than"),
        streams,
    )

    if history:
        return _history(context, open_engine, request.table)

    def agree(plan: CompactPlan) -> bool:
        _say_plan(out, plan)
        return bool(plan.orders) and not dry_run

    give_memory_back()
    with context.pools(into=open_engine) as pools:
        record = merge(request, out.progress(), agree, lambda: pools.threads(streams))
    _show(out, record)
    left = _leftovers(open_engine, record.table, before)
    gone = [
        _remove(context, open_engine, record, leftover, yes and not dry_run) for leftover in left
    ]
    document = {"compact_id": entry_id("compact"), **compact_document(record, dry_run, left)}
    if record.merged or any(gone):
        files = plural(record.plan.files, "file")
        summary = f"{record.table}: {files} became {record.files_after:,}"
        compact_id = str(document["compact_id"])
        context.note("compact", compact_id, summary, document, seconds=record.seconds)
    out.document(document)
    return 0


def _history(context: Context, open_engine: OpenEngine, name: str) -> int:
    """Lists the states of the table."""
    from contextlib import closing
    from datetime import UTC, datetime

    from splarn.cli.tables import Column
    from splarn.core.errors import RequestError
    from splarn.core.lake.compaction import merging_of
    from splarn.core.units import show_size

    engine = open_engine()
    with closing(engine.connect()) as session:
        table = session.tables.canonical(name)
        merging = merging_of(session, engine.title)
        if session.tables.columns(table) is None:
            raise RequestError(f"There is no table {name} in {engine.place}.")
        states = merging.history(table)
    when = [datetime.fromtimestamp(one.since, UTC) for one in states]
    named = any(one.names for one in states)
    context.out.table(
        [
            "since (UTC)", "what", Column("loads", 1), ">rows", ">files", Column(">size", 2),
            *([Column("kept as", 3)] if named else []),
        ],
        (
            (
                f"{at:%Y-%m-%d %H:%M}", one.what + " (now)" * one.now,
                "\n".join(one.loads), f"{one.rows:,}", f"{one.files:,}", show_size(one.bytes),
                *(["\n".join(one.names)] if named else []),
            )
            for at, one in zip(when, states, strict=True)
        ),
    )  # fmt: skip
    listed = [
        {
            "state": str(one.number), "since": at.isoformat(timespec="milliseconds"),
            "what": one.what, "loads": list(one.loads), "rows": one.rows, "files": one.files,
            "bytes": one.bytes, "kept_as": list(one.names), "now": one.now,
        }
        for at, one in zip(when, states, strict=True)
    ]  # fmt: skip
    context.out.document({"table": table, "target": engine.place, "states": listed})
    return 0


def _leftovers(open_engine: OpenEngine, table: str, before: dict[str, float]) -> list[Leftover]:
    from contextlib import closing

    from splarn.core.lake.compaction import merging_of

    engine, found = open_engine(), []
    with closing(engine.connect()) as session:
        merging = merging_of(session, engine.title)
        if "--forget" in before:
            found.append(merging.old_states(table, before["--forget"]))
        if "--strays" in before:
            found.append(merging.strays(table, before["--strays"]))
    return found


def _remove(
    context: Context, open_engine: OpenEngine, record: CompactRecord, leftover: Leftover, yes: bool
) -> bool:
    """Removes what is not needed any more, once that is agreed to; whether it did."""
    from contextlib import closing

    from splarn.core.lake.compaction import merging_of, said_to_go
    from splarn.core.units import show_size

    out = context.out
    if not leftover.files and not leftover.snapshots:
        out.note("There is nothing of that age to be removed.")
        return False
    size = f" ({show_size(leftover.bytes)})" if leftover.bytes else ""
    out.say(f"No longer reachable then: {said_to_go(leftover, record.table)}{size}.")
    if not yes:
        out.note("Nothing of it was removed: give --yes to agree.")
        return False
    engine = open_engine()
    with closing(engine.connect()) as session:
        merging_of(session, engine.title).remove(record.table, leftover)
    out.good("Removed.")
    return True


def compact_document(
    record: CompactRecord, dry_run: bool, left: list[Leftover]
) -> dict[str, object]:
    """What was merged, as JSON."""
    plan = record.plan
    return {
        "table": record.table,
        "target": record.place,
        "dry_run": dry_run,
        "files_before": plan.files,
        "files_after": record.files_after,
        "bytes_before": plan.bytes,
        "bytes_after": record.bytes_after,
        "rows": record.rows,
        "merges": record.merged,
        "merges_resumed": record.resumed,
        "merges_void": record.left,
        "seconds": record.seconds,
        "verified": record.verified,
        "estimate": {
            "files_merged": plan.files_merged,
            "bytes_merged": plan.bytes_merged,
            "files_after": plan.files_after,
            "bytes_after": plan.bytes_after,
            "seconds": plan.seconds,
            "seconds_saved_a_scan": plan.saved,
        },
        "leftover": [
            {
                "states": len(one.snapshots),
                "files": len(one.files),
                "bytes": one.bytes,
                "loads": list(one.loads),
            }
            for one in left
        ],
    }


def _say_plan(out: Output, plan: CompactPlan) -> None:
    from splarn.core.units import plural, show_duration, show_size

    if not plan.orders:
        out.say(
            f"Its {plural(plan.files, 'file')} ({show_size(plan.bytes)}) are as large as is "
            "wanted, or alone in their partitions: there is nothing to merge."
        )
        return
    takes = "" if plan.seconds is None else f", in about {show_duration(plan.seconds)}"
    out.say(
        f"To merge: {plural(plan.files_merged, 'file')} of {plan.files:,} "
        f"({show_size(plan.bytes_merged)} of {show_size(plan.bytes)}) in "
        f"{plural(len(plan.orders), 'group')}{takes}. The table should then have about "
        f"{plural(plan.files_after, 'file')} ({show_size(plan.bytes_after)})."
    )
    if plan.files_after < plan.files:
        out.say(
            f"A look at all of it then opens {plan.files - plan.files_after:,} files fewer, which "
            f"takes this machine {show_duration(plan.saved)} now."
        )


def _show(out: Output, record: CompactRecord) -> None:
    from splarn.core.units import plural, show_duration, show_size

    if not record.merged:
        if record.left:
            out.note("Others changed all of these files meanwhile: nothing was merged.")
        return
    plan = record.plan
    out.say(
        f"{record.table}: {plural(plan.files, 'file')} ({show_size(plan.bytes)}) became "
        f"{record.files_after:,} ({show_size(record.bytes_after)}) in "
        f"{show_duration(record.seconds)}, by one commit; {plural(record.rows, 'row')} as before."
    )
    if record.resumed:
        out.note(f"{plural(record.resumed, 'merge')} of an earlier try were whole and were kept.")
    if record.left:
        out.note(
            f"{plural(record.left, 'merge')} were dropped, since others changed their files "
            "meanwhile: give the same command again for those."
        )
    out.good("Verified: the new files hold the rows of the old ones, by a hash of every cell.")
