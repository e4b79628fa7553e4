"""What a worker is to make of a source, and what came of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from splarn.core.layout import Layout
from splarn.core.shape.fitting import Fitting
from splarn.core.shape.manifest import Part, SourceRange
from splarn.core.shape.parts_format import PartsFormat
from splarn.core.shape.slices import Count
from splarn.core.source.content import Identity
from splarn.core.source.leaves import Stretch
from splarn.core.source.passing import Extent
from splarn.core.source.ranges import Counted


@dataclass(frozen=True)
class Cut:
    """Parts that hold the same stretch of the source between them; one, unless partitioned."""

    parts: tuple[Part, ...]
    counts: tuple[Count, ...] = ()
    # Content ids of files that were read to their end for this cut, by their path.
    contents: tuple[tuple[str, Identity], ...] = ()
    # What was told of plain files by the ranges that were read for this cut, by their path.
    stretches: tuple[tuple[str, Stretch], ...] = ()


@dataclass(frozen=True)
class ShapeTask:
    """Source ranges that become one cut or, when `cutting`, as many as the part size asks for.

    `layout` is the source's, `made` the parts'. `header` opens every part. `done` are cuts that
    stand already. `keep` is how many bad rows a conversion may set aside; None is any number.
    `counted` is what is known of some ranges, which can then be copied without a look; `fitting`
    is how rows go into a layout that is not the source's own. `extents` are those of plain text
    files whose content is to be told meanwhile, by their path.
    """

    source: tuple[SourceRange, ...]
    folder: Path
    stem: str
    layout: Layout
    made: Layout
    output: PartsFormat
    header: bytes = b""
    cutting: bool = False
    keep: int | None = 0
    done: tuple[Cut, ...] = ()
    counted: dict[SourceRange, Counted] = field(default_factory=dict)
    fitting: Fitting | None = None
    extents: dict[str, Extent] = field(default_factory=dict)
