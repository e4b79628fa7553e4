"""Options that several commands share, each said once."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON document instead of text.")]
JobFile = Annotated[
    Path | None,
    typer.Option("--job", metavar="FILE", help="Job file; splarn.toml here when it is there."),
]
Paths = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="PATH…", help="Files, folders or patterns; the job's source when left out."
    ),
]
LayoutFile = Annotated[
    Path | None,
    typer.Option(
        "--layout", metavar="FILE", help="Layout file; the job's, or inferred from samples."
    ),
]
TargetUrl = Annotated[
    str | None,
    typer.Option(
        "--to",
        metavar="URL",
        help="Target, such as sqlite:///larkmere.db or postgresql://user@host/db.",
    ),
]
TableName = Annotated[str | None, typer.Option("--table", metavar="NAME", help="Table to fill.")]
Workers = Annotated[
    int | None,
    typer.Option("--workers", metavar="N", min=1, help="How many work at once; one a core."),
]
PartSizes = Annotated[
    str | None,
    typer.Option("--part-size", metavar="SIZES", help="Part sizes of the space, as 4MiB,16MiB."),
]
Codecs = Annotated[
    str | None,
    typer.Option("--codec", metavar="NAMES", help="Codecs of the space, as none,zstd:3."),
]
WorkerCounts = Annotated[
    str | None, typer.Option("--workers", metavar="COUNTS", help="Worker counts, as 1,2.")
]
StreamCounts = Annotated[
    str | None, typer.Option("--streams", metavar="COUNTS", help="Load stream counts, as 1,2,4.")
]
BatchRows = Annotated[
    str | None,
    typer.Option(
        "--batch-rows", metavar="COUNTS", help="Rows a batch, as 10k,100k; 0 is a whole part."
    ),
]
Durabilities = Annotated[
    str | None,
    typer.Option("--durability", metavar="NAMES", help="Of full, relaxed, unlogged."),
]
IndexTimings = Annotated[
    str | None, typer.Option("--indexes", metavar="NAMES", help="Of keep, rebuild.")
]
Routes = Annotated[str | None, typer.Option("--route", metavar="NAMES", help="Of direct, landing.")]
Tiers = Annotated[
    str | None, typer.Option("--tier", metavar="NAMES", help="Compute sizes, as u1,u4,u16.")
]
LoadTier = Annotated[
    str | None,
    typer.Option("--tier", metavar="NAME", help="Size of the compute while rows come in, as u16."),
]
ReadTier = Annotated[
    str | None,
    typer.Option(
        "--read-tier", metavar="NAME", help="Its size for verifying and after; what it was before."
    ),
]
SweepId = Annotated[
    str | None,
    typer.Option("--sweep", metavar="ID", help="Sweep to learn from; the newest when left out."),
]
VolumeSize = Annotated[
    str | None,
    typer.Option(
        "--volume", metavar="SIZE", help="Unpacked size to forecast for; the source's by default."
    ),
]
Yes = Annotated[bool, typer.Option("--yes", help="Agree to what would otherwise be asked.")]
