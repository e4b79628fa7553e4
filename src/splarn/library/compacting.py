"""Small files of lake tables made larger: compact."""

from __future__ import annotations

from collections.abc import Sequence

from splarn.core.lake.compaction import CompactRecord, CompactRequest
from splarn.core.lake.compaction import compact as merge
from splarn.core.work.progress import Progress
from splarn.engines import opener
from splarn.library.given import Size, count_of, size_of
from splarn.library.where import anywhere, pools


def compact(
    to: str,
    *,
    table: str,
    size: Size | None = None,
    sort: Sequence[str] = (),
    partitions: Sequence[str] = (),
    before: float | None = None,
    streams: int = 2,
    progress: Progress | None = None,
) -> CompactRecord:
    """Merges the small files of a lake's table towards a size, by partition, in one commit.

    Without a `size` towards the table's own; with `sort` all files are written anew in the order
    of these columns. `partitions` are those wanted, as `2031-04`, all if none is named; files that
    came in after `before`, in seconds since 1970, are left alone. The same call goes on with an
    interrupted one. Raises RequestError where the table is not there or is no files, OutsideError
    when the target fails or another compaction of the table is under way.
    """
    request = CompactRequest(
        opener(anywhere(to)), table, None if size is None else size_of(size), tuple(sort),
        tuple(partitions), before, count_of(streams, "streams"),
    )  # fmt: skip
    with pools(into=request.open_engine) as opened:
        return merge(request, progress, workers=lambda: opened.threads(request.streams))
