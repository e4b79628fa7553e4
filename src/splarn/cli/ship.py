"""`splarn ship`: files or parts into a depot."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from splarn.cli.misuse import read
from splarn.cli.options import (
    AsJson,
    JobFile,
    OnCluster,
    Paths,
    PerMachine,
)

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.ship import Gone, ShipRecord
    from splarn.core.ship.record import StreamTotal
    from splarn.core.source.places import Place


def ship(
    paths: Paths = None,
    to: Annotated[
        str | None,
        typer.Option(
            "--to", metavar="PLACE", help="Depot: a folder, an http:// or an s3:// place."
        ),
    ] = None,
    streams: Annotated[
        int, typer.Option("--streams", metavar="N", min=1, help="Files sent at once.")
    ] = 4,
    name: Annotated[
        str,
        typer.Option(
            "--as", metavar="NAME", help="Name there, as landing/{date:%Y/%m}/{run}/{name}."
        ),
    ] = "{name}",
    sent: Annotated[
        str,
        typer.Option(
            "--sent",
            metavar="WHAT",
            help="keep the files here, or delete those proven to be there.",
        ),
    ] = "keep",
    range_size: Annotated[
        str,
        typer.Option(
            "--range-size", metavar="SIZE", help="Larger files go in such ranges, several at once."
        ),
    ] = "32MiB",
    cluster: OnCluster = None,
    per_machine: PerMachine = None,
    job: JobFile = None,
    as_json: AsJson = False,
) -> None:
    """Copy files or a manifest's parts into a depot, byte for byte, in parallel streams.

    Example: [bold]splarn ship parts --to http://127.0.0.1:27610/landing --streams 8[/bold]

    What is there already with the same content is not sent again, so the same command goes on after
    a break. Each file is proven by its SHA-256 at both ends and is seen there only when it is
    whole. Busy depots are left alone for as long as they ask.
    """
    from contextlib import closing
    from datetime import UTC, datetime

    from splarn.cli.context import Context
    from splarn.cli.costs import show_cost
    from splarn.core.errors import RequestError
    from splarn.core.ledger import entry_id
    from splarn.core.ship import ShipRequest
    from splarn.core.ship import ship as send
    from splarn.core.source.places import is_url
    from splarn.core.units import parse_size, plural, show_size
    from splarn.depots import Origins, open_depot

    context = Context(job, as_json, None, cluster, per_machine)
    out = context.out
    if to is None:
        raise RequestError(
            "No depot is named: give --to with a folder, an http:// or an s3:// place."
        )
    if sent not in ("keep", "delete"):
        raise RequestError(f"--sent: {sent!r} is not known; use keep or delete.")
    context.check_ledger()
    files, gone = _files(context, paths)
    now = datetime.now(UTC)
    ship_id = entry_id("ship", now)
    folder = [] if is_url(to) else [context.own(Path(to))]
    to = str(folder[0]) if folder else to
    with (
        context.pools(reading=files, writing=folder) as pools,
        closing(open_depot(to)) as depot,
        closing(Origins()) as origins,
    ):
        request = ShipRequest(
            sources=tuple(files),
            depot=depot,
            template=name,
            run=ship_id.removeprefix("ship-"),
            date=now,
            delete_after=sent == "delete",
            range_size=max(read("--range-size", parse_size, range_size), 1 << 16),
            origin=origins.of,
            gone=gone,
        )
        machines = pools.machines
        record = send(request, pools.threads(streams), progress=out.progress())
    priced = context.priced(lambda _: record.usage().on(machines))
    document = {"ship_id": ship_id, **ship_document(record), **priced}
    told = f"{plural(len(record.files), 'file')}, {show_size(record.bytes_sent)} sent"
    summary = f"{told}, {plural(streams, 'stream')}"
    context.note("ship", ship_id, summary, document, seconds=record.seconds)
    _show(out, record)
    show_cost(out, priced, machines)
    out.document(document)


def _files(context: Context, paths: list[str] | None) -> tuple[list[Place], tuple[Gone, ...]]:
    """The files to ship, a manifest after its parts; and the parts that are no longer here."""
    from splarn.core.shape.manifest import MANIFEST, is_manifest, read_manifest
    from splarn.core.ship import Gone
    from splarn.core.source.files import bring_back
    from splarn.core.source.places import Remote
    from splarn.depots.arrived import below, manifest_at

    files = context.paths(paths, opened=False)
    gone = []
    for text in paths or []:
        if (away := manifest_at(text)) is not None:
            files.append(Remote(below(away[0], MANIFEST)))
            continue
        at = context.own(Path(text))
        if is_manifest(at):
            manifest = read_manifest(at)
            for part in manifest.parts:
                place = manifest.folder / part.path
                bring_back(place)
                if not place.exists():
                    gone.append(Gone(place, part.bytes, part.hash))
            files.append(manifest.folder / MANIFEST)
    missed = {entry.source for entry in gone}
    return list(dict.fromkeys(f for f in files if f not in missed)), tuple(dict.fromkeys(gone))


# Streams that are shown one by one.
MOST = 12


def ship_document(record: ShipRecord) -> dict[str, Any]:
    """A shipment as JSON."""
    return {
        "depot": record.place,
        "files": [
            {
                "path": one.source,
                "name": one.name,
                "bytes": one.bytes,
                "sha256": one.digest,
                "kept": one.kept,
                "seconds": sum(turn.seconds for turn in one.turns),
                "requests": sum(turn.requests for turn in one.turns),
                "retries": sum(turn.retries for turn in one.turns),
                "throttled_seconds": sum(turn.throttled for turn in one.turns),
                "streams": sorted({turn.stream for turn in one.turns}),
            }
            for one in record.files
        ],
        "bytes_sent": record.bytes_sent,
        "seconds": record.seconds,
        "requests": record.requests,
        "retries": record.retries,
        "throttled_seconds": record.throttled,
        "streams": [
            {
                "stream": one.stream,
                "bytes": one.bytes,
                "bytes_per_second": one.speed,
                "requests": one.requests,
                "retries": one.retries,
                "throttled_seconds": one.throttled,
            }
            for one in record.streams()
        ],
    }


def _show(out: Output, record: ShipRecord) -> None:
    from splarn.core.units import plural, show_duration, show_size

    kept = sum(one.kept for one in record.files)
    sent = len(record.files) - kept
    if sent:
        streams = record.streams()
        ranged = any(len(one.turns) > 1 for one in record.files)
        columns: dict[str, Callable[[StreamTotal], str]] = {
            "stream": lambda one: str(one.stream),
            ">files and ranges" if ranged else ">files": lambda one: str(one.turns),
        }
        if record.retries:
            columns[">tried again"] = lambda one: str(one.retries or "")
        if record.throttled:
            columns[">told to wait"] = lambda one: (
                show_duration(one.throttled) if one.throttled else ""
            )
        columns |= {
            ">sent": lambda one: show_size(one.bytes),
            ">MB/s": lambda one: f"{one.speed / 1e6:,.1f}",
        }
        rows = [[show(one) for show in columns.values()] for one in streams[:MOST]]
        out.table(list(columns), rows)
        if len(streams) > MOST:
            out.say(f"… and {plural(len(streams) - MOST, 'more stream')}.")
        speed = record.bytes_sent / max(record.seconds, 1e-9) / 1e6
        out.say(
            f"{plural(sent, 'file')} with {show_size(record.bytes_sent)} sent to {record.place} in "
            f"{show_duration(record.seconds)} ({speed:,.1f} MB/s)"
            + (f", {plural(record.requests, 'request')}" if record.remote else "")
            + (f", of which {record.retries} tried again." if record.retries else ".")
        )
    if kept:
        out.say(
            f"{plural(kept, 'file')} had arrived before with the same content; nothing was sent."
            if not sent
            else f"{plural(kept, 'other file')} had arrived before with the same content."
        )
    if record.throttled:
        out.note(
            f"The depot asked for rest: streams waited {show_duration(record.throttled)} in all. "
            "Fewer streams may be as fast."
        )
    out.good("Proven: every file there has the SHA-256 that it has here.")
