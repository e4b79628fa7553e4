"""`splarn survey`: what the files are."""

from __future__ import annotations

from typing import Annotated

import typer

from splarn.cli.options import AsJson, JobFile, LayoutFile, Paths


def survey(
    paths: Paths = None,
    exact: Annotated[
        bool, typer.Option("--exact", help="Read every byte: exact rows and content ids.")
    ] = False,
    layout: LayoutFile = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Take stock of files: size, codec, rows, and what in them will matter.

    Example: [bold]splarn survey deliveries/ --exact[/bold]
    """
    from pathlib import Path

    from splarn.cli.context import Context
    from splarn.core.layout.descriptor import read_layout
    from splarn.core.survey import survey as take_stock
    from splarn.core.units import plural, show_count, show_size

    context = Context(job, as_json)
    out = context.out
    given = layout or (
        context.job.folder / context.job.source.layout if context.job.source.layout else None
    )
    known = read_layout(given) if given and Path(given).exists() else None
    found = take_stock(context.paths(paths), known, exact, out.progress())

    def rows_of(rows: int | None, sure: bool) -> str:
        return "?" if rows is None else f"{'' if sure else '~'}{show_count(rows)}"

    out.table(
        ["file", ">size", "codec", ">rows", ">findings"],
        (
            (
                file.path,
                show_size(file.bytes),
                file.codec,
                rows_of(file.rows, file.rows_exact),
                str(len(file.findings) or ""),
            )
            for file in found.files
        ),
    )
    sure = all(file.rows_exact for file in found.files)
    out.say(
        f"{plural(len(found.files), 'file')}, {show_size(found.bytes)}, "
        f"{rows_of(found.rows, sure)} rows"
        + ("." if sure else " (~ estimated from samples; --exact counts them).")
    )
    for finding in found.findings:
        out.note(f"{finding.kind}: {finding.message}.")
    out.document(
        {
            "files": [
                {
                    "path": file.path,
                    "bytes": file.bytes,
                    "codec": file.codec,
                    "rows": file.rows,
                    "rows_exact": file.rows_exact,
                    "content_id": file.content_id,
                    "findings": [finding.__dict__ for finding in file.findings],
                }
                for file in found.files
            ],
            "totals": {"files": len(found.files), "bytes": found.bytes, "rows": found.rows},
            "findings": [finding.__dict__ for finding in found.findings],
        }
    )
