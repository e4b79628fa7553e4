"""What questions will read and cost, by how rows are kept: ask."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from os import PathLike
from pathlib import Path

from splarn.core.prices import Prices
from splarn.core.scans.foretelling import (
    Bill,
    Line,
    ScanRequest,
    Scans,
    bills,
    cheapest,
    foretell_scans,
)
from splarn.core.scans.kept import read_kept, usual_ways
from splarn.core.scans.questions import read_question
from splarn.core.source.source import Source
from splarn.core.tidy import scratch_prefix
from splarn.core.units import parse_duration, parse_rate
from splarn.core.work.pools import Pools, usable_cores
from splarn.core.work.progress import Progress
from splarn.library.given import (
    Files,
    LayoutLike,
    Size,
    layout_of,
    places,
    prices_of,
    size_of,
)


@dataclass(frozen=True)
class Asked:
    """What questions read and cost: the look at the delivery, a bill for each way of keeping its
    rows (as delivered first), and the cheapest of these over the months."""

    scans: Scans
    bills: tuple[Bill, ...]
    best: Bill


def ask(
    files: Files,
    questions: Sequence[str],
    *,
    kept_as: Sequence[str] = (),
    layout: LayoutLike = None,
    prices: Prices | str | PathLike[str] | None = None,
    months: float = 12,
    link: str | float | None = None,
    latency: str | float = 0.0,
    tier: str | None = None,
    look: Size = "128MiB",
    progress: Progress | None = None,
) -> Asked:
    """Foretells what questions will read of a delivery, by how its rows are kept.

    Questions are written like `columns(toll) where(entered 2031-04) monthly(900)`, ways of keeping
    rows like `csv zstd(3)` or `month(entered) sort(lock_code)`; without any the usual ways are
    tried. Some of the delivery, `look` bytes, is read, written in each way and read back. `link`
    and `latency` are those between the files and who asks; without them times are those of this
    machine's disk. Raises RequestError where a question or a way does not fit the fields,
    OutsideError where reading or writing fails.
    """
    found = places(files)
    known = layout_of(layout, found)
    asked = tuple(read_question(one) for one in questions)
    ways = [read_kept(one) for one in kept_as] or usual_ways(asked, known.fields, known.format)
    sources = tuple(Source.of(one).read_by(known) for one in found)
    request = ScanRequest(sources, known, asked, tuple(ways), size_of(look))
    paid = prices_of(prices)
    line = Line(parse_rate(link) if isinstance(link, str) else link, parse_duration(latency))
    with tempfile.TemporaryDirectory(prefix=scratch_prefix()) as scratch, Pools() as opened:
        scans = foretell_scans(request, Path(scratch), opened.threads(usable_cores()), progress)
    told = bills(scans, paid, months, line, tier or next(iter(paid.tiers)), usable_cores())
    return Asked(scans, tuple(told), cheapest(told, months))
