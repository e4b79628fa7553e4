"""Whether a delivery is like those before it, by a look at it before anything is loaded."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from statistics import median
from typing import Any

from splarn.core.layout import Layout
from splarn.core.reading import text_parser
from splarn.core.reading.sources import read_sources
from splarn.core.records.chunks import record_chunks
from splarn.core.source.codecs import head_of
from splarn.core.source.places import Place
from splarn.core.survey import survey
from splarn.core.units import plural

# What may differ, and what each is in words.
KINDS = {
    "order": "columns in another order",
    "types": "values that do not fit their types",
    "rows": "so many or so few rows",
}
# So many files are looked into, and so many bytes of each.
FILES, LOOK = 20, 256 << 10
# Rows that differ by more than this factor, and bad rows beyond so many times what was usual and
# this share, are another kind of delivery.
TIMES, WORSE, BAD = 10.0, 3.0, 0.01


@dataclass(frozen=True)
class Delivery:
    """What a look shows: about how many rows, and what of a sample the layout refuses, by field.

    `rows` is None where a look does not tell.
    """

    rows: float | None
    files: int
    bytes: int
    reordered: tuple[str, ...] = ()
    sampled: int = 0
    refused: dict[str, int] = field(default_factory=dict)

    @property
    def bad(self) -> float:
        """The share of sampled rows that are refused."""
        return sum(self.refused.values()) / max(self.sampled, 1)

    def plus(self, other: Delivery) -> Delivery:
        """What comes with it, of files of another kind."""
        rows = None if self.rows is None or other.rows is None else self.rows + other.rows
        refused = Counter(self.refused) + Counter(other.refused)
        return Delivery(
            rows, self.files + other.files, self.bytes + other.bytes,
            (*self.reordered, *other.reordered), self.sampled + other.sampled, dict(refused),
        )  # fmt: skip

    def as_json(self) -> dict[str, Any]:
        """As the ledger keeps it."""
        return asdict(self)

    @classmethod
    def read(cls, document: dict[str, Any]) -> Delivery:
        """The reverse of `as_json`. Raises TypeError for what is none."""
        return cls(**{**document, "reordered": tuple(document.get("reordered", ()))})


@dataclass(frozen=True)
class Drift:
    """In what a delivery differs from those before: one of KINDS, and a sentence."""

    kind: str
    words: str


def look_at_delivery(paths: Sequence[Place], layout: Layout) -> Delivery:
    """A look at the files of a delivery; their headers are held against the layout.

    Raises RequestError where a file has other columns, OutsideError when one cannot be read.
    """
    sources = read_sources(paths, layout, headers_do=True)
    rows = survey(list(paths)).rows
    reordered = tuple(str(one) for one in sources if "+columns=" in one.codec)
    sampled, refused = 0, Counter[str]()
    step = max(len(sources) // FILES, 1)
    for source in sources[::step] if layout.format != "parquet" else ():
        parser = text_parser(layout, str(source))
        head = head_of(source.place, source.codec, LOOK)
        ends = source.codec.partition("+")[0] == "none" and source.size <= LOOK
        for chunk in record_chunks([head], layout.dialect, where=str(source)):
            # The last record may be cut off by the end of the look.
            if not ends and chunk.rows < 2:
                continue
            whole = chunk if ends else chunk.part(0, chunk.rows - 1)
            sampled += whole.rows
            parsed = parser.parse(whole)
            refused.update(fault.field or "" for fault in parsed.faults)
    size = sum(source.size for source in sources)
    about = None if rows is None else float(rows)
    return Delivery(about, len(sources), size, reordered, sampled, dict(refused))


def drifted(now: Delivery, before: Sequence[Delivery]) -> list[Drift]:
    """In what a delivery differs from the last ones; of the first one nothing can be said."""
    if not before:
        return []
    found = []
    counted = [one.rows for one in before if one.rows is not None]
    if now.rows is not None and counted:
        usual = median(counted)
        if now.rows < 1 or not usual / TIMES <= now.rows <= usual * TIMES:
            count = f"about {plural(round(now.rows), 'row')}"
            found.append(
                Drift("rows", f"it holds {count}, and the last ones about {round(usual):,} each")
            )
    was = max(one.bad for one in before)
    if now.sampled and now.bad > max(BAD, WORSE * was):
        name, misfits = max(now.refused.items(), key=lambda one: one[1])
        of = f"{misfits:,} of {plural(now.sampled, 'row')} looked at do not fit"
        what = f"the column {name}" if name else "the layout"
        found.append(Drift("types", f"{of} {what}, and of the last ones at most {was:.1%} did not"))
    new = [path for path in now.reordered if not any(one.reordered for one in before)]
    if new:
        found.append(Drift("order", f"{new[0]} has its columns in another order"))
    return found
