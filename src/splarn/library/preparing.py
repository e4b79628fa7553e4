"""Knowing and preparing data: survey, infer_layout, check, shape, ship."""

from __future__ import annotations

import secrets
from contextlib import closing
from datetime import UTC, datetime
from os import PathLike
from pathlib import Path

from splarn.core.check.checking import CheckResult
from splarn.core.check.checking import check as check_files
from splarn.core.errors import OutsideError
from splarn.core.inference.infer import Inferred
from splarn.core.inference.infer import infer_layout as infer
from splarn.core.reading.faults import replace_rejects
from splarn.core.shape.manifest import MANIFEST, Manifest
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.shaper import Shaped
from splarn.core.shape.shaper import shape as make_parts
from splarn.core.shape.verify import verify_parts
from splarn.core.ship import ShipRecord, ShipRequest
from splarn.core.ship import ship as send
from splarn.core.source.codecs import Packing
from splarn.core.source.places import Place, is_url
from splarn.core.survey import Catalogue, Intended
from splarn.core.survey import survey as take_stock
from splarn.core.work.progress import Progress
from splarn.library.given import (
    Files,
    LayoutLike,
    Size,
    count_of,
    layout_of,
    manifest_in,
    places,
    size_of,
)
from splarn.library.where import own, pools


def survey(
    files: Files,
    *,
    layout: LayoutLike = None,
    exact: bool = False,
    part_size: Size = "64MiB",
    streams: int = 4,
    progress: Progress | None = None,
) -> Catalogue:
    """Takes stock of files: size, codec, format, rows, and what in them will matter.

    `exact` reads every byte, for counted rows and content ids; else rows are estimated, within
    bounds. Findings are about parts of `part_size` unpacked bytes and so many load `streams`.
    Raises RequestError when nothing is named, OutsideError when a file cannot be read.
    """
    found = places(files)
    known = None if layout is None else layout_of(layout, found)
    intended = Intended(size_of(part_size), streams)
    with pools(reading=found) as opened:
        # Here it reads by as many as there are cores, of its own accord.
        pool = None if opened.away is None else opened.of(opened.usual(0))
        return take_stock(found, known, exact, intended, progress, pool=pool)


def infer_layout(files: Files, *, delimiter: str | None = None, flatten: bool = False) -> Inferred:
    """Infers how files read: dialect, names and types of columns; what is in doubt is in `notes`.

    `delimiter` settles that question beforehand; `flatten` gives nested JSON columns of its own.
    Raises RequestError when the files hold no records or are of several formats.
    """
    return infer(places(files), delimiter=delimiter, flatten=flatten)


def check(
    files: Files,
    layout: LayoutLike = None,
    *,
    rejects: str | PathLike[str] | None = None,
    good: str | PathLike[str] | None = None,
    bad_row_limit: int | None = None,
    workers: int | None = None,
    progress: Progress | None = None,
) -> CheckResult:
    """Reads every record against a layout; each fault is named by file, line and field.

    Bad rows go into the folder `rejects` and good ones into files in the folder `good`, where those
    are given. It stops once `bad_row_limit` rows are bad.
    Raises RequestError where files are not of that layout, OutsideError when one cannot be read.
    """
    found = places(files)
    into = None if good is None else own(good)
    with pools(reading=found, writing=[into]) as opened:
        wanted = workers or opened.usual(sum(one.stat().st_size for one in found))
        result = check_files(
            found,
            layout_of(layout, found),
            opened.of(count_of(wanted, "workers")),
            limit=bad_row_limit,
            good=into,
            progress=progress,
        )
    if rejects is not None:
        replace_rejects(Path(rejects) / "check.rejects.jsonl", result.faults)
    return result


def shape(
    files: Files,
    into: str | PathLike[str],
    *,
    layout: LayoutLike = None,
    part_size: Size = "64MiB",
    format: str | None = None,
    codec: str | Packing | None = None,
    rejects: str | PathLike[str] | None = None,
    workers: int | None = None,
    verify: bool = False,
    again: bool = False,
    progress: Progress | None = None,
) -> Shaped:
    """Cuts, merges, packs and converts files into parts, at record boundaries; writes a manifest.

    `part_size` is unpacked bytes; `codec` is written as "zstd:3". The same call goes on with an
    interrupted one. `verify` reads all back and raises OutsideError unless the parts hold exactly
    the source's records, once each. Bad rows of a conversion go into the folder `rejects`; without
    one the first halts it.
    Raises RequestError where the files are not of the layout or the folder is in use, OutsideError
    when reading or writing fails.
    """
    found = places(files)
    known = layout_of(layout, found)
    kind = format or known.format
    output = PartsFormat(kind, Packing.of_parts(codec, kind), size_of(part_size))
    size = sum(one.stat().st_size for one in found)
    folder = own(into)
    with pools(reading=found, writing=[folder]) as opened:
        pool = opened.threads(workers or opened.usual(8 * size))
        made = make_parts(
            found, known, folder, output, pool,
            keep=0 if rejects is None else None, again=again, progress=progress,
        )  # fmt: skip
        if verify:
            copies = output.is_copy(known)
            differences = verify_parts(made.manifest, known, copies, pool, progress)
            if differences:
                raise OutsideError(f"The parts are not what was read: {'; '.join(differences)}.")
    if rejects is not None:
        replace_rejects(Path(rejects) / "shape.rejects.jsonl", made.faults)
    return made


def ship(
    files: Files | Manifest,
    to: str | PathLike[str],
    *,
    streams: int = 4,
    name: str = "{name}",
    progress: Progress | None = None,
) -> ShipRecord:
    """Copies files, or a manifest's parts and then itself, into a depot in parallel streams.

    `to` is a folder, an HTTP or an S3-protocol place. Each file is proven by its SHA-256 at both
    ends; what is there with the same content is not sent again.
    Raises RequestError for a template `name` that is none, OutsideError when sending fails.
    """
    from splarn.depots import Origins, open_depot

    manifest = manifest_in(files)
    if manifest is not None:
        parts = [manifest.folder / part.path for part in manifest.parts]
        found: list[Place] = [*parts, manifest.folder / MANIFEST]
    else:
        assert not isinstance(files, Manifest), "a manifest is one"
        found = places(files)
    now = datetime.now(UTC)
    folder = [] if is_url(str(to)) else [own(to)]
    place = str(folder[0]) if folder else str(to)
    with (
        pools(reading=found, writing=folder) as opened,
        closing(open_depot(place)) as depot,
        closing(Origins()) as origins,
    ):
        request = ShipRequest(
            tuple(found),
            depot,
            template=name,
            run=f"{now:%Y%m%d-%H%M%S}-{secrets.token_hex(2)}",
            date=now,
            origin=origins.of,
        )
        return send(request, opened.threads(count_of(streams, "streams")), progress=progress)
