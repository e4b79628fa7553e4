"""Where the records of a text begin: titles and comments before them, the header, the names."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from splarn.core.inference.cells import is_value
from splarn.core.layout.dialect import COMMENTS
from splarn.core.records.splitting import Record

# No careful person writes more lines before the header.
MOST_BEFORE = 60
BODY = 400
NEIGHBOURS = 8
# Words that name columns rather than stand in them, in the languages of many files.
_NAMES = frozenset(
    re.findall(
        "[a-z]+",
        "id no nr num number key code name type kind class category group status state value "
        "amount price cost total sum count quantity qty unit units date time datetime timestamp "
        "day month year week hour minute start end begin from to created updated modified country "
        "region city town street address zip postcode lat lon latitude longitude x y z index idx "
        "row col label title description comment note notes remark text file path url link email "
        "phone sex gender age height weight width length size score rank rate ratio percent share "
        "mean median min max sd var species level version source target user customer client "
        "order product item sku brand model color colour first last firstname lastname surname "
        "currency balance nummer datum wert betrag preis menge ort land strasse jahr monat tag "
        "zeit nom prenom ville pays rue annee mois jour prix quantite nombre fecha hora ciudad "
        "pais precio cantidad codigo valor ano mes dia data ora citta paese prezzo",
    )
)


@dataclass(frozen=True)
class Beginning:
    """Where the records begin.

    `before` counts the lines over the header, or over the first record where there is none;
    `header` are its cells, one list for each of its lines; `width` is that of the records. `sure`
    says whether there is a doubt about the header. `short` says that the header lacks a name for
    the first column.
    """

    before: int
    header: tuple[tuple[str, ...], ...]
    width: int
    sure: bool = True
    short: bool = False


def find_beginning(
    records: Sequence[Record], first_line: int = 1, spaced: bool = False
) -> Beginning:
    """Judges the records of a file's head; `first_line` is where records were looked for first.

    `spaced` says that blanks are between fields, so that any sentence divides into some.
    """
    width = usual_width(records)
    at = _first_whole(records, width, spaced)
    before = records[at].line - 1 if at else first_line - 1
    first, body = records[at], records[at + 1 : at + 1 + BODY]
    if first.width < width:
        cells, empty = first.cells, _ends_empty(body, width)
        return Beginning(before, ((*cells, "") if empty else ("", *cells),), width, True, not empty)
    rows = [record.cells for record in body if record.width == width]
    cells = first.cells if any(first.cells[width:]) else first.cells[:width]
    verdict = header_verdict(cells, rows)
    width = max(width, len(cells) if verdict > 0 else 0)
    if verdict <= 0:
        return Beginning(before, (), width, verdict < -0.5)
    return Beginning(before, (cells,), width, verdict >= 0.5)


def usual_width(records: Sequence[Record]) -> int:
    """The commonest width of the records, the larger one of equals."""
    widths = Counter(record.width for record in records)
    if not widths:
        return 1
    return max(widths, key=lambda width: (widths[width], width))


def _first_whole(records: Sequence[Record], width: int, spaced: bool) -> int:
    """The record that is the header, or the first record where there is none."""
    begins = _after_comments(records, width)
    usual = sum(record.width == width for record in records) / max(len(records), 1)
    for at, record in enumerate(records[:MOST_BEFORE]):
        if at < begins or _is_comment(record, width):
            continue
        near = records[at + 1 : at + 1 + NEIGHBOURS]
        alike = sum(one.width == width for one in near)
        if near and alike < 0.6 * usual * len(near):
            # Among lines that are no records, one may have their width by chance.
            continue
        if record.width > width and not any(cell.strip() for cell in record.cells[width:]):
            # The header ends with a delimiter, and the records do not.
            if width > 1 and all(_namely(cell) for cell in record.cells[:width]):
                return at
            continue
        if record.width > width and at + 1 < len(records):
            # A header may name columns that most records leave out at their end.
            named = all(_namely(cell) for cell in record.cells)
            if named and not spaced and record.filled == record.width:
                return at
            continue
        if record.width == width:
            if _is_title(record, records[at + 1 : at + 4], width):
                continue
            return at
        if record.width == width - 1 and _lacks_first(record, records[at + 1 :], width):
            return at
    return 0


def _after_comments(records: Sequence[Record], width: int) -> int:
    """How many records at the start are comments, though they may have the others' width."""
    count = 0
    while count < len(records) and records[count].cells[0].startswith("#"):
        count += 1
    if not count or count == len(records):
        return 0
    first, rows = records[count], [one.cells for one in records[count + 1 :][:BODY]]
    if header_verdict(first.cells, [row for row in rows if len(row) == width]) >= 0.5:
        return count
    # The last one names the columns itself.
    return count - 1


def _is_comment(record: Record, width: int) -> bool:
    mark = record.cells[0].lstrip()[:2]
    return record.width != width and mark.startswith(COMMENTS)


def _is_title(record: Record, following: Sequence[Record], width: int) -> bool:
    """A line of a spreadsheet whose first cell alone is filled, over fuller ones."""
    if width < 3 or record.filled > 1 or not following:
        return False
    return max(one.filled for one in following) > max(2, width // 2)


def _lacks_first(record: Record, following: Sequence[Record], width: int) -> bool:
    """Whether a header lacks the name of the column of row names."""
    if not all(_namely(cell) for cell in record.cells):
        return False
    if not following or following[0].line != record.line + 1:
        return False
    below = [one.cells for one in following[1:BODY] if one.width == width]
    if width < 3 and header_verdict(following[0].cells, below) >= 0.5:
        # A title stands over the header.
        return False
    rows = [one.cells for one in following[:BODY]]
    return bool(rows) and sum(len(row) == width for row in rows) >= 0.9 * len(rows)


def _ends_empty(records: Sequence[Record], width: int) -> bool:
    """Whether the last column is always empty, since records end with a delimiter."""
    return not any(one.cells[-1].strip() for one in records if one.width == width)


def _namely(cell: str) -> bool:
    text = cell.strip()
    return bool(text) and len(text) <= 80 and not is_value(text)


def header_verdict(first: Sequence[str], rows: Sequence[Sequence[str]]) -> float:
    """How surely the first record is a header: above 0 where it is one.

    Cells that cannot be values of their columns speak for it, cells that can against it.
    """
    filled = [cell for cell in first if cell.strip()]
    if not filled:
        return -1.0
    if not rows:
        return 1.0 if all(_namely(cell) for cell in filled) else -0.3
    width = len(first)
    values = [cell for cell in filled if is_value(cell)]
    unnamed = not first[0].strip() and len(first) > 1
    if len(values) == len(filled) and not unnamed:
        return -2.0 if not _is_scale(values) else 0.6
    scale = _is_scale(values) if values else False
    if not first[0].strip() and len(rows) >= 5 and all(row and row[0].strip() for row in rows):
        # Records have names of their own, and this one has none.
        if len(values) == len(filled):
            return 0.6
        scale = True
    votes = 0.0
    for index in range(width):
        column = [row[index] for row in rows if index < len(row)]
        votes += _vote(first[index].strip(), [cell.strip() for cell in column], scale)
    names = [cell.strip().lower() for cell in filled]
    votes += 0.8 * sum(_is_known(name) for name in names) / len(names)
    return float(votes / max(len(filled) ** 0.5, 1.0))


def _vote(cell: str, column: list[str], scale: bool) -> float:
    """What one column says of the first record being a header."""
    held = [value for value in column if value]
    if not cell:
        return 0.0
    if not held:
        return 0.1
    typed = sum(map(is_value, held)) / len(held)
    if typed >= 0.8:
        if not is_value(cell):
            return 2.0 if len(held) > 1 or typed == 1.0 else 0.5
        # Years and the like name columns; numbers among numbers are values.
        return 0.0 if scale else -2.0
    if is_value(cell):
        return 0.0 if scale else -0.6
    if cell in held:
        return -0.5 if len(cell) > 1 or held.count(cell) > len(held) / 10 else -0.2
    return 0.15 + _breaks_shape(cell, held)


def _breaks_shape(cell: str, held: list[str]) -> float:
    """Whether a cell has another shape than all the values below it."""
    shapes = Counter(map(_shape, held))
    common, count = shapes.most_common(1)[0]
    if len(held) >= 3 and count > 0.9 * len(held) and _shape(cell) != common:
        return 0.6
    lengths = {len(value) for value in held}
    if len(held) >= 5 and len(lengths) == 1 and len(cell) not in lengths:
        return 0.4
    few = len(set(held)) <= max(2, len(held) // 5)
    return 0.3 if few else 0.0


def _shape(value: str) -> str:
    """Runs of letters by case, of digits, and all else as it is."""
    text = re.sub(r"[0-9]+", "9", value)
    text = re.sub(r"[^\W\d_]*[a-zà-ÿ][^\W\d_]*", "a", text)
    return re.sub(r"[^\W\d_a]+", "A", text)


def _is_known(name: str) -> bool:
    words = re.findall(r"[^\W_]+", name)
    return any(word in _NAMES for word in words)


def _is_scale(values: Sequence[str]) -> bool:
    """Whether values of a header are years, days or numbers in an even row, as names are."""
    texts = [value.strip() for value in values]
    if all(re.fullmatch(r"(?:1[5-9]|20|21)[0-9]{2}", text) for text in texts):
        return len(set(texts)) == len(texts)
    numbers: list[float] = []
    for text in texts:
        try:
            numbers.append(float(text))
        except ValueError:
            # Days and months over columns are names, each once.
            return len(texts) > 1 and len(set(texts)) == len(texts) and not any(
                re.fullmatch(r"[0-9.,]+", one) for one in texts
            )  # fmt: skip
    if len(numbers) < 3:
        return False
    steps = {round(after - before, 6) for before, after in pairwise(numbers)}
    return len(steps) == 1 and steps != {0.0}
