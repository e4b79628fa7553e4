"""`splarn survey`: what the files are."""

from __future__ import annotations

from collections import Counter
from contextlib import ExitStack
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.misuse import read
from splarn.cli.options import (
    AsJson,
    JobFile,
    LayoutFile,
    OnCluster,
    Paths,
    PerMachine,
    Settings,
)
from splarn.cli.tables import Column, told_apart

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.survey import Catalogue, SourceFile


def survey(
    paths: Paths = None,
    exact: Annotated[
        bool, typer.Option("--exact", help="Read every byte: exact rows and content ids.")
    ] = False,
    layout: LayoutFile = None,
    name: Annotated[
        str | None,
        typer.Option("--name", metavar="PATTERN", help="Only files whose name is like this."),
    ] = None,
    larger: Annotated[
        str | None, typer.Option("--larger", metavar="SIZE", help="Only files of at least this.")
    ] = None,
    smaller: Annotated[
        str | None, typer.Option("--smaller", metavar="SIZE", help="Only files of at most this.")
    ] = None,
    newer: Annotated[
        str | None,
        typer.Option("--newer", metavar="AGE", help="Only files changed within this, as 2d."),
    ] = None,
    older: Annotated[
        str | None,
        typer.Option("--older", metavar="AGE", help="Only files not changed within this."),
    ] = None,
    part_size: Annotated[
        str, typer.Option("--part-size", metavar="SIZE", help="Part size you have in mind.")
    ] = "64MiB",
    streams: Annotated[
        int, typer.Option("--streams", metavar="N", min=1, help="Load streams you have in mind.")
    ] = 4,
    show: Annotated[
        int, typer.Option("--show", metavar="N", help="Files to list, the largest first.")
    ] = 20,
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
    settings: Settings = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Take stock of files: size, codec, rows, and what in them will matter.

    Example: [bold]splarn survey deliveries/ --newer 1d --part-size 64MiB --streams 4[/bold]
    """
    from splarn.cli.context import Context
    from splarn.core.errors import RequestError
    from splarn.core.layout.descriptor import read_layout
    from splarn.core.source.files import Only
    from splarn.core.survey import Intended
    from splarn.core.survey import survey as take_stock
    from splarn.core.units import parse_duration, parse_size, show_count, show_size

    context = Context(job, as_json, settings, cluster, per_machine)
    out = context.out
    given = layout or (
        context.job.folder / context.job.source.layout if context.job.source.layout else None
    )
    known = read_layout(given) if given and (layout or given.exists()) else None
    only = Only(
        name,
        None if larger is None else read("--larger", parse_size, larger),
        None if smaller is None else read("--smaller", parse_size, smaller),
        None if newer is None else read("--newer", parse_duration, newer),
        None if older is None else read("--older", parse_duration, older),
    )
    files = [path for path in context.paths(paths, quiet=True) if only.keeps(path)]
    if not files:
        raise RequestError("No file is left by --name, --larger, --smaller, --newer and --older.")
    intended = Intended(read("--part-size", parse_size, part_size), streams)
    with ExitStack() as held:
        pool = None
        if context.cluster is not None:
            pools = held.enter_context(context.pools(reading=files))
            pool = pools.of(pools.usual(0))
        catalogue = take_stock(files, known, exact, intended, out.progress(), context.skipped, pool)

    def rows_of(file: SourceFile) -> str:
        return "?" if file.rows is None else f"{'' if file.rows_exact else '~'}{file.rows:,}"

    of_file = catalogue.by_file
    listed = sorted(catalogue.files, key=lambda file: -file.bytes)[:show]
    if len(catalogue.files) <= show:
        listed = list(catalogue.files)
    above, names = told_apart([file.path for file in listed])
    if above:
        out.say(f"In {above}:")
    columns = [
        Column("file", shortens=True),
        Column(">size"),
        Column("codec", 3),
        Column("format", 4),
        Column(">columns", 5),
        Column(">rows"),
        Column(">bytes a row", 6),
    ]
    rows = [
        [
            called,
            show_size(file.bytes),
            file.codec,
            file.format,
            str(file.columns or ""),
            rows_of(file),
            f"{file.row_bytes:,.0f}" if file.row_bytes else "",
        ]
        for called, file in zip(names, listed, strict=True)
    ]
    if any(of_file[file.path] for file in listed):
        columns.append(Column("findings", 1, wraps=True))
        for row, file in zip(rows, listed, strict=True):
            row.append(", ".join(dict.fromkeys(one.kind for one in of_file[file.path])))
    out.table(columns, rows)
    if len(listed) < len(catalogue.files):
        out.say(f"… and {len(catalogue.files) - len(listed):,} smaller files.")
    _say_totals(out, catalogue)
    for finding in catalogue.findings[:show]:
        out.note(f"{finding.kind}: {finding.message}.")
    if len(catalogue.findings) > show:
        kinds = Counter(finding.kind for finding in catalogue.findings)
        further = ", ".join(f"{show_count(count)} {kind}" for kind, count in kinds.most_common())
        out.note(
            f"{len(catalogue.findings) - show:,} more; in all {further} (--show N, or --json)."
        )
    if as_json:
        out.document(_document(catalogue))


def _say_totals(out: Output, found: Catalogue) -> None:
    from splarn.core.units import plural, show_count, show_size

    if found.rows is None:
        rows = "rows unknown, since a file is damaged"
    elif all(file.rows_exact for file in found.files):
        rows = f"{plural(round(found.rows), 'row')}"
    else:
        low, high = found.rows_bounds
        rows = (
            f"about {plural(round(found.rows), 'row')} (between {show_count(low)} and "
            f"{show_count(high)}; --exact counts them)"
        )
    out.say(f"{plural(len(found.files), 'file')}, {show_size(found.bytes)}, {rows}.")


def _document(found: Catalogue) -> dict[str, Any]:
    plain = (
        "path", "bytes", "codec", "format", "encoding", "line_end", "columns", "rows", "rows_low",
        "rows_high", "rows_exact", "raw_bytes", "row_bytes", "content_id", "modified", "splittable",
    )  # fmt: skip
    of_file = found.by_file
    return {
        "files": [
            {key: getattr(file, key) for key in plain}
            | {"findings": [finding.__dict__ for finding in of_file[file.path]]}
            for file in found.files
        ],
        "totals": {"files": len(found.files), "bytes": found.bytes, "rows": found.rows},
        "findings": [finding.__dict__ for finding in found.findings],
    }
