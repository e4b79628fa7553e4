"""`splarn check`: every record against the layout."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from splarn.cli.options import (
    AsJson,
    JobFile,
    LayoutFile,
    OnCluster,
    Paths,
    PerMachine,
    Settings,
    Workers,
)
from splarn.cli.tables import Column, name, text


def check(
    paths: Paths = None,
    layout: LayoutFile = None,
    rejects: Annotated[
        Path | None,
        typer.Option("--rejects", metavar="DIR", help="Write the bad rows into this folder."),
    ] = None,
    good: Annotated[
        Path | None,
        typer.Option("--good", metavar="DIR", help="Write the good rows into files in here."),
    ] = None,
    bad_row_limit: Annotated[
        int | None,
        typer.Option("--bad-row-limit", metavar="N", min=1, help="Stop once so many rows are bad."),
    ] = None,
    show: Annotated[
        int, typer.Option("--show", metavar="N", help="Faults to list on the screen.")
    ] = 10,
    workers: Workers = None,
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
    settings: Settings = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Read everything against the layout and name each fault by line and field.

    Example: [bold]splarn check deliveries/ --layout layout.json --rejects rejects[/bold]
    """
    from splarn.cli.context import Context

    context = Context(job, as_json, settings, cluster, per_machine)
    out = context.out
    files = context.paths(paths)
    total = sum(file.stat().st_size for file in files)
    good = None if good is None else context.own(good)
    from splarn.core.check.checking import check as check_files
    from splarn.core.reading.faults import replace_rejects
    from splarn.core.units import plural, show_count

    chosen_layout = context.layout(layout, files)
    here = all(isinstance(file, Path) for file in files)
    with context.pools(here, reading=files, writing=[good]) as pools:
        pool = pools.of(workers or pools.usual(total))
        result = check_files(
            files, chosen_layout, pool, limit=bad_row_limit, good=good, progress=out.progress()
        )
    result.faults = context.in_delivery(result.faults)
    written = None
    if rejects is not None:
        written = replace_rejects(rejects / "check.rejects.jsonl", result.faults)
    out.say(
        f"{plural(round(result.rows), 'row')} in {plural(len(files), 'file')}: "
        f"{show_count(result.good)} good, {show_count(result.bad)} bad."
    )
    if result.bad:
        out.table(
            ["fault", "field", ">rows"],
            (
                (kind, field or "whole record", show_count(count))
                for (kind, field), count in result.kinds.most_common()
            ),
        )
        shown = result.faults[:show]
        out.table(
            [name("file"), ">line", name("field"), Column("found", 1, wraps=True), text("why")],
            (
                (
                    Path(fault.path).name,
                    str(fault.line),
                    fault.field or "",
                    "" if fault.value is None else fault.value,
                    fault.message,
                )
                for fault in shown
            ),
        )
        if result.bad > len(shown):
            out.say(f"… and {show_count(result.bad - len(shown))} more (--show N lists more).")
    if written is not None and result.bad:
        out.say(f"The bad rows are in {written}.")
    if good is not None:
        out.say(f"The good rows are in {good}.")
    if result.stopped:
        out.note(f"Stopped early, since {result.stopped}: what comes after has not been read.")
    out.document(
        {
            "rows": result.rows,
            "good": result.good,
            "bad": result.bad,
            "faults": [fault.as_json() for fault in result.faults],
            "summary": [
                {"kind": kind, "field": field or None, "rows": count}
                for (kind, field), count in result.kinds.most_common()
            ],
            "rejects": str(written) if written else None,
            "stopped": bool(result.stopped),
            "stopped_because": result.stopped or None,
        }
    )
    return 1 if result.bad else 0
