"""`splarn shape`: source files into parts."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

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
    Workers,
)
from splarn.core.units import parse_count, parse_size

if TYPE_CHECKING:
    from collections.abc import Sequence

    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.layout import Layout
    from splarn.core.reading.faults import Fault
    from splarn.core.shape.manifest import Manifest
    from splarn.core.shape.parts_format import PartsFormat
    from splarn.core.shape.shaper import Shaped
    from splarn.core.source.codecs import Packing
    from splarn.core.source.places import Place
    from splarn.core.work.pool import Pool


def shape(
    paths: Paths = None,
    into: Annotated[
        Path, typer.Option("--into", metavar="DIR", help="New or empty folder for the parts.")
    ] = Path("parts"),
    layout: LayoutFile = None,
    part_size: Annotated[
        str, typer.Option("--part-size", metavar="SIZE", help="Unpacked size of a part.")
    ] = "64MiB",
    packed_size: Annotated[
        str | None,
        typer.Option("--packed-size", metavar="SIZE", help="Packed size instead, by a sample."),
    ] = None,
    part_rows: Annotated[
        str | None, typer.Option("--part-rows", metavar="N", help="So many rows a part instead.")
    ] = None,
    part_count: Annotated[
        int | None,
        typer.Option("--part-count", metavar="N", min=1, help="About so many parts instead."),
    ] = None,
    header: Annotated[
        bool, typer.Option("--header", help="Open every part with the header line.")
    ] = False,
    format_: Annotated[
        str | None,
        typer.Option("--format", metavar="F", help="csv, jsonl or parquet; the source's own."),
    ] = None,
    codec: Annotated[
        str | None,
        typer.Option(
            "--codec",
            metavar="NAME[:LEVEL]",
            help="none, gzip:1-9, zstd:1-19, lz4:0-12, bzip2:1-9, xz:0-9; in Parquet none, "
            "zstd, gzip, lz4, snappy, brotli.",
        ),
    ] = None,
    sort_by: Annotated[
        str | None,
        typer.Option("--sort-by", metavar="FIELDS", help="Order rows within parts, as a,b:desc."),
    ] = None,
    partition_by: Annotated[
        str | None,
        typer.Option(
            "--partition-by",
            metavar="FIELDS",
            help="A folder for each value, as lock_code or entered:month.",
        ),
    ] = None,
    row_group_rows: Annotated[
        str, typer.Option("--row-group-rows", metavar="N", help="Rows of a Parquet row group.")
    ] = "131_072",
    dictionary: Annotated[
        bool,
        typer.Option(
            "--dictionary/--no-dictionary",
            help="Parquet dictionaries for columns whose values repeat.",
        ),
    ] = True,
    rejects: Annotated[
        Path | None,
        typer.Option(
            "--rejects", metavar="DIR", help="When converting, set bad rows aside in here."
        ),
    ] = None,
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
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
    settings: Settings = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> int:
    """Cut, merge, compress and convert files into parts of one size, at record boundaries.

    Example: [bold]splarn shape deliveries/ --into parts --part-size 64MiB --codec zstd:1[/bold]

    An interrupted shape goes on with the parts that are whole when the same command is given again.
    """
    from splarn.cli.context import Context
    from splarn.core.shape.shaper import shape as make_parts

    context = Context(job, as_json, settings, cluster, per_machine)
    files = context.paths(paths)
    total = sum(file.stat().st_size for file in files)
    if estimate:
        return _estimate(context, files, total, workers)
    chosen_layout = context.layout(layout, files)
    kind = format_ or chosen_layout.format
    _check_options(kind, header, packed_size, part_rows, part_count)
    into = context.own(into)
    with context.pools(reading=files, writing=[into]) as pools:
        # Typing and unpacking are several times the work of copying.
        work = total if kind == chosen_layout.format == "csv" else 8 * total
        pool = pools.threads(workers or pools.usual(work))
        output = _parts_format(
            chosen_layout, kind, codec, header, row_group_rows, dictionary, sort_by, partition_by
        )
        output = replace(
            output,
            part_bytes=_part_bytes(
                files, output.packing, total, pool, part_size, packed_size, part_count
            ),
            part_rows=0 if part_rows is None else read("--part-rows", parse_count, part_rows),
        )
        made = make_parts(
            files,
            chosen_layout,
            into,
            output,
            pool,
            keep=0 if rejects is None else None,
            again=again,
            progress=context.out.progress(),
        )
        differences: list[str] = []
        if verify:
            from splarn.core.shape.verify import verify_parts

            copies = output.is_copy(chosen_layout)
            differences = verify_parts(
                made.manifest, chosen_layout, copies, pool, context.out.progress()
            )
    set_aside = None if rejects is None else _keep_rejects(rejects, made.faults)
    _show(context.out, len(files), made, output, chosen_layout, set_aside)
    if verify and not differences:
        kept = "records" if output.is_copy(chosen_layout) else "good rows"
        context.out.good(f"Verified: the parts hold exactly the source's {kept}, once each.")
    for difference in differences:
        context.out.bad(f"{difference}.")
    context.out.say(f"The manifest is {made.manifest.path}.")
    context.out.document(
        {
            "manifest": str(made.manifest.path),
            "parts": len(made.manifest.parts),
            "rows": made.manifest.rows,
            "bytes_in": made.bytes_in,
            "bytes_out": made.manifest.bytes,
            "parts_kept": made.resumed,
            "rows_rejected": len(made.faults),
            "rejects": str(set_aside) if set_aside else None,
            "seconds": made.seconds,
            "verified": not differences if verify else None,
            "differences": differences,
        }
    )
    return 1 if differences else 0


def _parts_format(
    chosen_layout: Layout,
    kind: str,
    codec: str | None,
    header: bool,
    row_group_rows: str,
    dictionary: bool,
    sort_by: str | None,
    partition_by: str | None,
) -> PartsFormat:
    """How parts are written, as the options say; of no size yet."""
    from splarn.core.shape.keys import parse_keys
    from splarn.core.shape.parts_format import PartsFormat
    from splarn.core.source.codecs import Packing

    return PartsFormat(
        format=kind,
        packing=Packing.of_parts(codec, kind),
        part_bytes=0,
        header=header,
        row_group_rows=read("--row-group-rows", parse_count, row_group_rows),
        dictionary=dictionary,
        sort_by=() if sort_by is None else parse_keys(sort_by, chosen_layout, False),
        partition_by=() if partition_by is None else parse_keys(partition_by, chosen_layout, True),
    )


def _part_bytes(
    files: list[Place],
    packing: Packing,
    total: int,
    pool: Pool,
    part_size: str,
    packed_size: str | None,
    part_count: int | None,
) -> int:
    """The unpacked size of a part, however it was asked for."""
    size = read("--part-size", parse_size, part_size)
    if part_count is not None:
        return -(-total // part_count)
    if packed_size is not None:
        return _unpacked_size(read("--packed-size", parse_size, packed_size), files, packing, pool)
    return size


def _show(
    out: Output,
    count: int,
    made: Shaped,
    output: PartsFormat,
    chosen_layout: Layout,
    set_aside: Path | None,
) -> None:
    """What was made, and what of it a person should know."""
    from splarn.core.units import plural, show_duration, show_size

    manifest = made.manifest
    if made.resumed:
        out.note(f"{plural(made.resumed, 'part')} of an interrupted shape were whole and kept.")
    speed = made.bytes_in / max(made.seconds, 1e-9)
    out.say(
        f"{plural(count, 'file')}, {show_size(made.bytes_in)} → "
        f"{plural(len(manifest.parts), 'part')}, {show_size(manifest.bytes)}"
        f"{_packed_share(manifest, output.packing)}, {plural(manifest.rows, 'row')}, "
        f"in {show_duration(made.seconds)} ({show_size(speed)}/s)."
    )
    if made.faults:
        verb = "was" if len(made.faults) == 1 else "were"
        out.note(
            f"{plural(len(made.faults), 'bad row')} {verb} set aside in {set_aside}, and "
            f"{'is' if len(made.faults) == 1 else 'are'} in no part."
        )


def _check_options(
    kind: str, header: bool, packed: str | None, rows: str | None, count: int | None
) -> None:
    from splarn.core.errors import RequestError
    from splarn.core.layout.fields import FORMATS

    if kind not in FORMATS:
        raise RequestError(f"Parts cannot be written as {kind!r}: use {', '.join(FORMATS)}.")
    if header and kind != "csv":
        raise RequestError(f"--header is for delimited text; {kind} names its fields itself.")
    if packed is not None and kind == "parquet":
        raise RequestError(
            "--packed-size cannot tell how rows pack inside Parquet: give --part-size or "
            "--part-rows."
        )
    if [packed, rows, count].count(None) < 2:
        raise RequestError("Give only one of --packed-size, --part-rows and --part-count.")


def _unpacked_size(packed: int, files: list[Place], packing: Packing, pool: Pool) -> int:
    """The unpacked size of parts that come out at about so many packed bytes."""
    from splarn.core.shape.estimate import estimate, sample_bytes
    from splarn.core.source.source import Source

    sample = sample_bytes([Source.of(path) for path in files])
    if not sample:
        return packed
    (estimated,) = estimate(sample, [packing], 0, pool)
    return round(packed / estimated.share)


def _packed_share(manifest: Manifest, packing: Packing) -> str:
    if packing.codec == "none" or manifest.layout.format == "parquet":
        return ""
    return f" (packed to {manifest.bytes / max(manifest.raw_bytes, 1):.0%} of their size)"


def _keep_rejects(folder: Path, faults: Sequence[Fault]) -> Path:
    from splarn.core.reading.faults import replace_rejects

    return replace_rejects(folder / "shape.rejects.jsonl", faults)


_TRIED = ("none", "lz4:0", "gzip:1", "gzip:6", "zstd:1", "zstd:3", "zstd:9", "bzip2:9", "xz:1")


def _estimate(context: Context, files: list[Place], total: int, workers: int | None) -> int:
    """Tries the codecs on a sample and says what each would do to the volume."""
    from splarn.core.shape.estimate import estimate, sample_bytes
    from splarn.core.source.codecs import Packing
    from splarn.core.source.source import Source
    from splarn.core.survey.look import look_at
    from splarn.core.units import plural, show_duration, show_size
    from splarn.core.work.pools import Pools, usable_cores

    out = context.out
    count = workers or usable_cores()
    sources = [Source.of(path) for path in files]
    packed = [source for source in sources if source.codec != "none"]
    if packed:
        looks = [look_at(path, None, False) for path in files]
        total = sum(one.raw_bytes for one in looks)
    sample = sample_bytes(sources)
    if not sample:
        from splarn.core.errors import RequestError

        raise RequestError("The files are empty: there is nothing to estimate.")
    with Pools() as pools:
        estimates = estimate(
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
            for one in estimates
        ),
    )
    if packed:
        verb = "is" if len(packed) == 1 else "are"
        out.note(f"{plural(len(packed), 'file')} {verb} packed; how much they hold is an estimate.")
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
                for one in estimates
            ],
        }
    )
    return 0
