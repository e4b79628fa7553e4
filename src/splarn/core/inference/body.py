"""The records of a text between its header and its end: comments, footers, short ones, padding."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.inference.cells import is_value
from splarn.core.inference.header import Beginning
from splarn.core.inference.samples import SampledText
from splarn.core.layout.naming import settled_names
from splarn.core.records.splitting import Marks, Record

# How people begin what they write behind the records.
_REMARK = re.compile(
    "(?:source|note|total|figures|data |copyright|generated|report|created|end of|as of|last upd)"
    "|[*†©#(]"
)
# A column in which this share of the values is padded was padded on purpose.
PADDED = 0.5
# No careful person writes more lines behind the records.
MOST_BEHIND = 12


@dataclass(frozen=True)
class Body:
    """What the samples hold of records, in the width of the layout; `places` say where each is.

    `comment` is how lines begin that are none, `footer` how many lines stand behind the last one,
    `fill` whether short ones are filled up.
    """

    records: tuple[tuple[str, ...], ...]
    places: tuple[str, ...]
    comment: str | None
    footer: int
    fill: bool


def judge_body(
    samples: Sequence[SampledText],
    every: Sequence[Sequence[Record]],
    beginning: Beginning,
    names: Sequence[str],
    spaced: bool,
    notes: list[str],
) -> Body:
    """Judges what follows the header; `every` are the records of each sample.

    `spaced` says that blanks part the fields, so that a sentence looks like a record.
    """
    width = beginning.width
    bodies = _behind_header(samples, every, beginning, names, notes)
    comment = _comment_mark(bodies, width)
    if comment:
        bodies = _without_comments(bodies, comment, width, notes)
    footer = _footer(samples, bodies, width, spaced, notes)
    if footer:
        bodies = [
            body[:-footer] if sample.is_tail else body
            for sample, body in zip(samples, bodies, strict=True)
        ]
    fill = _fill(bodies, width, notes)
    kept = [
        (sample, record)
        for sample, body in zip(samples, bodies, strict=True)
        for record in body
        if record.width == width or (fill and record.width < width)
    ]
    return Body(
        records=tuple((*one.cells, *[""] * (width - one.width)) for _, one in kept),
        places=tuple(
            f"{sample.path.name}, line {one.line}" if sample.is_head else sample.path.name
            for sample, one in kept
        ),
        comment=comment,
        footer=footer,
        fill=fill,
    )


def _behind_header(
    samples: Sequence[SampledText],
    every: Sequence[Sequence[Record]],
    beginning: Beginning,
    names: Sequence[str],
    notes: list[str],
) -> list[list[Record]]:
    """The records of each sample, those of a file with its columns in another order put right."""
    heads = [
        (sample, records) for sample, records in zip(samples, every, strict=True) if sample.is_head
    ]
    orders = {
        sample.path: _order_of(sample, records, beginning, names, notes)
        for sample, records in heads[1:]
    }
    bodies: list[list[Record]] = []
    for sample, records in zip(samples, every, strict=True):
        body = list(records)
        if sample.is_head:
            body = [record for record in body if record.line > beginning.before]
            if beginning.header and body:
                body = body[len(beginning.header) :]
        order = orders.get(sample.path)
        if order:
            body = [
                Record(one.line, tuple(one.cells[at] for at in order))
                for one in body
                if one.width == beginning.width
            ]
        bodies.append(body)
    return bodies


def _without_comments(
    bodies: Sequence[Sequence[Record]], comment: str, width: int, notes: list[str]
) -> list[list[Record]]:
    alike = sum(
        one.width == width and one.cells[0].startswith(comment) for body in bodies for one in body
    )
    also = f", also {alike} with as many fields as a record" if alike else ""
    notes.append(f"lines that begin with {comment!r} are comments and no records{also}")
    return [[one for one in body if not one.cells[0].startswith(comment)] for body in bodies]


def _order_of(
    sample: SampledText,
    records: Sequence[Record],
    beginning: Beginning,
    names: Sequence[str],
    notes: list[str],
) -> tuple[int, ...]:
    """How another file's columns are put into the order of the first one's; empty where they are.

    Other names are said.
    """
    if not records or not beginning.header:
        return ()
    head = next((record for record in records if record.line > beginning.before), records[0])
    cells = ("", *head.cells) if beginning.short else head.cells
    own = settled_names(cells, max(len(cells), len(names)))[0]
    if own == list(names):
        return ()
    if sorted(own) == sorted(names):
        notes.append(
            f"{sample.path.name} has its columns in another order; they are put into the first "
            "file's"
        )
        return tuple(own.index(name) for name in names)
    notes.append(f"{sample.path.name} has another header than the first file")
    return ()


def _comment_mark(bodies: Sequence[Sequence[Record]], width: int) -> str | None:
    """The mark of comment lines among the records."""
    odd = [one for body in bodies for one in body if one.cells[0].startswith("#")]
    even = sum(one.width == width for one in odd)
    return "#" if odd and width > 1 and even * 2 < len(odd) else None


def _footer(
    samples: Sequence[SampledText],
    bodies: list[list[Record]],
    width: int,
    spaced: bool,
    notes: list[str],
) -> int:
    """How many lines behind the records are none, alike in all files that are seen to their end."""
    if width < 2 or spaced:
        return 0
    counts: Counter[int] = Counter()
    shown = ""
    for sample, body in zip(samples, bodies, strict=True):
        if not sample.is_tail or len(body) < 3:
            continue
        count = 0
        while count < len(body) and _is_note(body[-1 - count], width):
            count += 1
        lines = count and sum(
            1 + cell.count("\n") for one in body[-count:] for cell in (one.cells[0],)
        )
        if count > MOST_BEHIND or lines != count:
            count = 0
        if count:
            shown = body[-count].cells[0]
        counts[count] += 1
    if not counts or set(counts) == {0}:
        return 0
    if len(counts) > 1:
        notes.append("some files end with lines that are no records; such lines will be refused")
        return 0
    (count,) = counts
    words = "line stands" if count == 1 else "lines stand"
    notes.append(
        f"{count} {words} behind the records and {'is' if count == 1 else 'are'} left out (such as "
        f"{shown.strip()[:50]!r})"
    )
    return count


def _is_note(record: Record, width: int) -> bool:
    """Whether a record at the end is a remark: of another width, with a text and little else."""
    first = record.cells[0].strip()
    if is_value(first):
        return False
    if record.width == width:
        remark = _REMARK.match(first.lower()) is not None
        return width > 2 and record.filled == 1 and len(first) > 12 and remark
    return record.width < width and record.filled <= max(1, width // 2)


def _fill(bodies: Sequence[Sequence[Record]], width: int, notes: list[str]) -> bool:
    """Whether records leave fields out at their end, rather than being damaged."""
    widths = Counter(record.width for body in bodies for record in body)
    total = widths.total()
    short = sum(count for one, count in widths.items() if one < width)
    if total and widths[width] == 0 and short == total:
        notes.append("records leave out fields at their end; those are read as empty")
        return True
    if short and short >= max(0.02 * total, 3) and min(widths) > 1:
        notes.append(
            f"{short:,} of {total:,} sampled records leave out fields at their end; those are read "
            "as empty"
        )
        return True
    return False


def is_padded(rows: Sequence[Sequence[str]], marks: Marks) -> bool:
    """Whether values of some column are padded with blanks more often than not."""
    if marks.runs or not rows:
        return False
    for column in zip(*rows[:2000], strict=True):
        filled = [value for value in column if value.strip()]
        padded = sum(1 for value in filled if value != value.strip(" \t"))
        if len(filled) > 1 and padded >= PADDED * len(filled):
            return True
    return False
