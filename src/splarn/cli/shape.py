"""`splarn shape`: source files into parts."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from splarn.cli.options import AsJson, JobFile, LayoutFile, Paths, Workers

if TYPE_CHECKING:
    from splarn.cli.context import Context


def shape(
    paths: Paths = None,
    into: Annotated[
        Path, typer.Option("--into", metavar="DIR", help="New or empty folder for the parts.")
    ] = Path("parts"),
    layout: LayoutFile = None,
    part_size: Annotated[
        str, typer.Option("--part-size", metavar="SIZE", help="Unpacked size of a part.")
    ] = "64MiB",
    part_count: Annotated[
        int | None,
        typer.Option("--part-count", metavar="N", min=1, help="About so many parts instead."),
    ] = None,
    header: Annotated[
        bool, typer.Option("--header", help="Open every part with the header line.")
    ] = False,
    format_: Annotated[
        str, typer.Option("--format", metavar="F", help="What parts are written as: csv.")
    ] = "csv",
    codec: Annotated[
        str,
        typer.Option(
            "--codec",
            metavar="NAME[:LEVEL]",
            help="none, gzip:1-9, zstd:1-19, lz4:0-12, bzip2:1-9 or xz:0-9.",
        ),
    ] = "none",
    workers: Workers = None,
    verify: Annotated[
        bool, typer.Option("--verify", help="Prove that the parts hold every record once.")
    ] = False,
    again: Annotated[
        bool, typer.Option("--again", help="Replace the parts that are in the folder.")
    ] = False,
    estimate: Annotated[
        bool,
        typer.Option("--estimate", help="Make nothing; try the codecs on a sample and say."),
    ] = False,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Cut, merge and compress files into parts of one size, at record boundaries.

    Example: [bold]splarn shape deliveries/ --into parts --part-size 64MiB --codec zstd:1[/bold]

    An interrupted shape goes on with the parts that are whole when the same command is given again.
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
    total = sum(file.stat().st_size for file in files)
    if estimate:
        return _estimate(context, files, total, workers)
    if part_count is not None:
        size = -(-total // part_count)
    how = context.layout(layout, files)
    with Pools() as pools:
        pool = pools.threads(workers or workers_for(total))
        made = make_parts(
            files,
            how,
            into,
            size,
            packing,
            pool,
            header=header,
            again=again,
            progress=out.progress(),
        )
        differences = (
            verify_parts(made.manifest, how.dialect.header, pool, out.progress()) if verify else []
        )
    manifest = made.manifest
    if made.resumed:
        out.note(f"{plural(made.resumed, 'part')} of an interrupted shape were whole and kept.")
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
            "parts_kept": made.resumed,
            "seconds": made.seconds,
            "verified": not differences if verify else None,
            "differences": differences,
        }
    )
    return 1 if differences else 0


_TRIED = ("none", "lz4:0", "gzip:1", "gzip:6", "zstd:1", "zstd:3", "zstd:9", "bzip2:9", "xz:1")


def _estimate(context: Context, files: list[Path], total: int, workers: int | None) -> int:
    """Tries the codecs on a sample and says what each would do to the volume."""
    from splarn.core.codecs import Packing, codec_of
    from splarn.core.pool import Pools, usable_cores
    from splarn.core.shape.estimate import estimate, sample_bytes
    from splarn.core.units import plural, show_duration, show_size

    out = context.out
    count = workers or usable_cores()
    packed = [path for path in files if codec_of(path) != "none"]
    sample = sample_bytes(files)
    if not sample:
        from splarn.core.errors import RequestError

        raise RequestError("The files are empty: there is nothing to estimate.")
    with Pools() as pools:
        found = estimate(
            sample, [Packing.parse(text) for text in _TRIED], total, pools.threads(count),
            out.progress(),
        )  # fmt: skip
    out.say(
        f"Tried on {show_size(sum(map(len, sample)))} of {plural(len(files), 'file')} with "
        f"{plural(count, 'worker')}, here and now; for all {show_size(total)}:"
    )
    out.table(
        ["codec", ">packs", ">unpacks", ">packed to", ">size", ">time"],
        (
            (
                str(one.packing),
                f"{show_size(one.pack_speed)}/s",
                "" if one.packing.codec == "none" else f"{show_size(one.unpack_speed)}/s",
                f"{one.share:.0%}",
                show_size(one.bytes),
                show_duration(one.seconds),
            )
            for one in found
        ),
    )
    if packed:
        verb = "is" if len(packed) == 1 else "are"
        out.note(
            f"{plural(len(packed), 'file')} {verb} packed; the volume counts the packed bytes."
        )
    out.document(
        {
            "sample_bytes": sum(map(len, sample)),
            "volume_bytes": total,
            "workers": count,
            "estimates": [
                {
                    "codec": one.packing.codec,
                    "level": one.packing.level,
                    "pack_bytes_per_second": one.pack_speed,
                    "unpack_bytes_per_second": one.unpack_speed,
                    "share": one.share,
                    "bytes": one.bytes,
                    "seconds": one.seconds,
                }
                for one in found
            ],
        }
    )
    return 0
