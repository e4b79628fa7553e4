"""Rows back out of a target: unload."""

from __future__ import annotations

from collections.abc import Sequence
from os import PathLike

from splarn.core.errors import RequestError
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.source.codecs import Packing
from splarn.core.target.outgoing import Wanted
from splarn.core.unload import UnloadRecord, UnloadRequest
from splarn.core.unload import unload as write_rows
from splarn.core.work.progress import Progress
from splarn.engines import identity, opener_of_existing
from splarn.library.given import Size, count_of, size_of
from splarn.library.where import anywhere, own, pools


def unload(
    source: str,
    into: str | PathLike[str],
    *,
    table: str | None = None,
    query: str | None = None,
    columns: Sequence[str] = (),
    format: str = "csv",
    codec: str | Packing | None = None,
    part_size: Size = "64MiB",
    streams: int = 2,
    verify: bool = True,
    again: bool = False,
    progress: Progress | None = None,
) -> UnloadRecord:
    """Writes the rows of a table, or of a query, of the target `source` into parts with a manifest.

    `part_size` is about the unpacked bytes of a part. The same call goes on with an interrupted one
    where the table is what it was. What `verify` finds is in `differences`.
    Raises RequestError for a table or a column that is not there and for a folder in use,
    OutsideError when the target or the disk fails.
    """
    if (table is None) == (query is None):
        raise RequestError("Name what is to come: a table, or a query.")
    packing = Packing.of_parts(codec, format)
    output = PartsFormat(format, packing, size_of(part_size), converted=True)
    open_engine = opener_of_existing(anywhere(source))
    request = UnloadRequest(
        open_engine, identity(source), Wanted(table or "", query or "", tuple(columns)),
        own(into), output, again=again, verify=verify,
    )  # fmt: skip
    with pools(writing=[request.into], into=open_engine) as opened:
        pool = opened.streams(count_of(streams, "streams"), open_engine())
        return write_rows(request, pool, progress)
