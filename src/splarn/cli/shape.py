"""`splarn shape`: source files into parts."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from splarn.cli.options import AsJson, JobFile, LayoutFile, Paths, Workers


def shape(
    paths: Paths = None,
    into: Annotated[
        Path, typer.Option("--into", metavar="DIR", help="New or empty folder for the parts.")
    ] = Path("parts"),
    layout: LayoutFile = None,
    part_size: Annotated[
        str, typer.Option("--part-size", metavar="SIZE", help="Unpacked size of a part.")
    ] = "64MiB",
    format_: Annotated[
        str, typer.Option("--format", metavar="F", help="What parts are written as: csv.")
    ] = "csv",
    codec: Annotated[
        str,
        typer.Option("--codec", metavar="NAME[:LEVEL]", help="none, gzip:1-9 or zstd:1-19."),
    ] = "none",
    workers: Workers = None,
    verify: Annotated[
        bool, typer.Option("--verify", help="Prove that the parts hold every record once.")
    ] = False,
    again: Annotated[
        bool, typer.Option("--again", help="Replace the parts that are in the folder.")
    ] = False,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Cut, merge and compress files into parts of one size, at record boundaries.

    Example: [bold]splarn shape deliveries/ --into parts --part-size 64MiB --codec zstd:1[/bold]
    """
    from splarn.cli.context import Context
    from splarn.core.codecs import Packing
    from splarn.core.errors import RequestError
    from splarn.core.pool import Pools, workers_for
    from splarn.core.shape.shaper import shape as make_parts
    from splarn.core.shape.verify import verify_parts
    from splarn.core.units import parse_size, plural, show_count, show_duration, show_size

    context = Context(job, as_json)
    out = context.out
    packing = Packing.parse(codec)
    size = parse_size(part_size)
    if format_ != "csv":
        raise RequestError(f"Parts cannot be written as {format_!r} yet: use csv.")
    files = context.paths(paths)
    how = context.layout(layout, files)
    with Pools() as pools:
        pool = pools.threads(workers or workers_for(sum(file.stat().st_size for file in files)))
        made = make_parts(
            files, how, into, size, packing, pool, again=again, progress=out.progress()
        )
        differences = (
            verify_parts(made.manifest, how.dialect.header, pool, out.progress()) if verify else []
        )
    manifest = made.manifest
    speed = made.bytes_in / max(made.seconds, 1e-9)
    share = manifest.bytes / max(manifest.raw_bytes, 1)
    packed = "" if packing.codec == "none" else f" (packed to {share:.0%} of their size)"
    out.say(
        f"{plural(len(files), 'file')}, {show_size(made.bytes_in)} → "
        f"{plural(len(manifest.parts), 'part')}, {show_size(manifest.bytes)}"
        f"{packed}, {show_count(manifest.rows)} rows, "
        f"in {show_duration(made.seconds)} ({show_size(speed)}/s)."
    )
    if verify and not differences:
        out.good("Verified: the parts hold exactly the source's records, once each.")
    for difference in differences:
        out.bad(f"{difference}.")
    out.say(f"The manifest is {manifest.path}.")
    out.document(
        {
            "manifest": str(manifest.path),
            "parts": len(manifest.parts),
            "rows": manifest.rows,
            "bytes_in": made.bytes_in,
            "bytes_out": manifest.bytes,
            "seconds": made.seconds,
            "verified": not differences if verify else None,
            "differences": differences,
        }
    )
    return 1 if differences else 0
