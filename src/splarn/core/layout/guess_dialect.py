"""The dialect that sampled text speaks of: encoding, delimiter, quote, escape and padding."""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.errors import RequestError
from splarn.core.layout.samples import Sample, decode
from splarn.core.places import Place

# In order of preference; any other mark is tried only where none of these does.
USUAL = ",;\t|^~:\x1f\x01"
_SELDOM = "!#$%&*+/=@\\\x1c\x1d\x1e\x02\x03"
GOOD = 0.9
LOOKED_AT = 2000
# A column in which this share of the values is padded was padded on purpose.
PADDED = 0.5


@dataclass(frozen=True)
class Marks:
    """Delimiter, quote and escape, with how well they divide the sample (1 is perfectly)."""

    delimiter: str
    quote: str | None = '"'
    escape: str | None = None
    score: float = 0.0


def guess_encoding(samples: Sequence[Sample], notes: list[str]) -> str:
    """UTF-8, unless many lines are none; doubts go to the notes.

    Raises RequestError for UTF-16, whose bytes cannot be cut into records.
    """
    for sample in samples:
        data = sample.data
        if data.startswith((b"\xff\xfe", b"\xfe\xff")):
            raise RequestError(
                f"{sample.path} is UTF-16 text, which cannot be cut into records by bytes: "
                "convert it to UTF-8 first."
            )
        inner = data if sample.is_head else data[data.find(b"\n") + 1 :]
        inner = inner if sample.whole else inner[: inner.rfind(b"\n") + 1]
        try:
            inner.decode("utf-8")
        except UnicodeDecodeError as error:
            lines = inner.count(b"\n") + 1
            broken = sum(1 for line in inner.split(b"\n") if not _is_utf8(line))
            if broken * 20 > lines:
                notes.append(
                    f"{sample.path.name} is not UTF-8 from byte {error.start} on; taken as cp1252, "
                    "check letters with accents"
                )
                return "cp1252"
            notes.append(
                f"{sample.path.name} is UTF-8 but for {broken} of {lines:,} sampled lines; "
                "such rows will be refused"
            )
    return "utf-8"


def _is_utf8(line: bytes) -> bool:
    try:
        line.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def guess_marks(text: str, path: Place, delimiter: str | None) -> Marks:
    """The marks that give the most records the same number of columns, two at least.

    A `delimiter` settles that question beforehand. Raises RequestError when no delimiter fits.
    """
    quote = _quote(text)
    best = Marks(delimiter or ",", quote)
    for candidates in (delimiter or USUAL, "" if delimiter else _others(text)):
        for candidate in candidates:
            score = _score(rows_of(text, Marks(candidate, quote)))
            if score > best.score:
                best = Marks(candidate, quote, None, score)
        if best.score >= GOOD:
            break
    if quote is not None and f"\\{quote}" in text:
        escaped = Marks(best.delimiter, quote, "\\")
        score = _score(rows_of(text, escaped))
        if score > best.score or (score == best.score and _is_escaped(text, best)):
            best = Marks(best.delimiter, quote, "\\", score)
    if delimiter is None and best.score < 0.5 and any(mark in text for mark in USUAL[:4]):
        raise RequestError(
            f"No delimiter gives the records of {path} the same number of columns: "
            "name one with --delimiter."
        )
    return best


def _others(text: str) -> list[str]:
    """Any other mark that stands in most of the first lines."""
    lines = [line for line in text.split("\n")[:20] if line.strip()]
    shared = set.intersection(*map(set, lines)) if lines else set()
    seldom = {
        mark for mark in shared if mark in _SELDOM or (ord(mark) > 127 and not mark.isalnum())
    }
    return sorted(seldom) + ([" "] if " " in shared else [])


def _quote(text: str) -> str:
    """The single quote where it wraps fields and the double one never does."""
    if '"' in text:
        return '"'
    wrapped = sum(
        text.count(f"{mark}'") + text.count(f"'{mark}") for mark in (",", ";", "\t", "|", "\n")
    )
    return "'" if wrapped > text.count("\n") else '"'


def _is_escaped(text: str, marks: Marks) -> bool:
    """Whether a backslash before a quote cannot be a field's last character."""
    closing = f"\\{marks.quote}"
    ends = sum(text.count(closing + mark) for mark in (marks.delimiter, "\n", "\r\n"))
    return text.count(closing) > ends


def _score(rows: Sequence[list[str]]) -> float:
    widths = Counter(len(row) for row in rows[:LOOKED_AT] if row)
    if not widths:
        return 0.0
    width, count = widths.most_common(1)[0]
    return (count / widths.total()) ** 2 * (1 + 0.01 * min(width, 50)) if width > 1 else 0.0


def rows_of(text: str, marks: Marks) -> list[list[str]]:
    """The records of a text, each as its fields; blank lines left out."""
    csv.field_size_limit(1 << 30)

    def read(lines: list[str]) -> list[list[str]]:
        reader = csv.reader(
            lines,
            delimiter=marks.delimiter,
            quotechar=marks.quote,
            quoting=csv.QUOTE_NONE if marks.quote is None else csv.QUOTE_MINIMAL,
            escapechar=marks.escape,
        )
        return [row for row in reader if row]

    try:
        return read([f"{line}\n" for line in text.removesuffix("\n").split("\n")])
    except csv.Error:
        # A NUL byte or a bare carriage return: go on line by line, so that one does not spoil all.
        lines = text.replace("\0", " ").replace("\r\n", "\n").replace("\r", " ").split("\n")
        return [row for line in lines for row in read([line])]


def sample_rows(
    samples: Sequence[Sample], encoding: str, marks: Marks
) -> tuple[list[list[str]], list[list[str]]]:
    """Records of the commonest width from all samples, and the first record of each head."""
    rows: list[list[str]] = []
    headers: list[list[str]] = []
    for sample in samples:
        found = rows_of(decode(sample, encoding), marks)
        if not found:
            found = rows_of(sample.data.decode(encoding, errors="replace"), marks)
        if sample.is_head and found:
            headers.append(found[0])
        rows += found
    width = Counter(len(row) for row in rows).most_common(1)[0][0]
    if len(headers[0]) != width:
        headers[0] = next(row for row in rows if len(row) == width)
    return [row for row in rows if len(row) == width], headers


def is_padded(rows: Sequence[list[str]]) -> bool:
    """Whether values of some column are padded with blanks more often than not."""
    for column in zip(*rows[:LOOKED_AT], strict=True):
        filled = [value for value in column if value]
        padded = sum(1 for value in filled if value != value.strip())
        if filled and padded >= PADDED * len(filled):
            return True
    return False
