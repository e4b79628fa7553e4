"""Forms: text of other encodings and shapes, made plain records on plain lines as it is read.

Each form takes blocks and gives blocks. A line of delimited text stays a line, so that faults name
the delivery's own; what is no record becomes a blank one. Where a form cannot be sure, it makes the
record one that no layout takes, so that it is a fault and nothing is lost or misread.
"""

from __future__ import annotations

import codecs
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache

from splarn.core.layout.dialect import BETWEEN, Dialect
from splarn.core.records.chunks import record_chunks, skip_beginning
from splarn.core.records.scanning import field_patterns
from splarn.core.source.json_values import json_values

Blocks = Iterator[bytes]
# A quote that stays open for so many bytes is none.
LONGEST_HELD = 8 << 20
_BETWEEN = BETWEEN.encode()
# Lines over the last ones that tell how many fields a record has.
_NEIGHBOURS = 20


def reshaped(blocks: Iterable[bytes], forms: Iterable[str]) -> Blocks:
    """Blocks with all the forms done, one after the other."""
    reshaped_blocks = iter(blocks)
    for form in forms:
        name, _, given = form.partition("=")
        reshaped_blocks = _FORMS[name](reshaped_blocks, given)
    return reshaped_blocks


@lru_cache(maxsize=64)
def around_fields(
    delimiter: bytes, quote: str | None, escape: str | None, behind: bool = True
) -> re.Pattern[bytes]:
    """Blanks before fields, and `behind` them, or as its first group a quoted field.

    Blanks inside of that are its own; those before it are not in the group.
    """
    d = re.escape(delimiter)
    blank = rb"[ \t]" if delimiter != b"\t" else rb" "
    opens = rb"(?:(?<=" + d + rb")|(?<=\n)|\A)"
    outside = opens + blank + rb"+"
    if behind:
        outside = blank + rb"+(?=" + d + rb"|\r?\n|\Z)|" + outside
    if quote is None:
        return re.compile(rb"((?!))|" + outside)
    q = re.escape(quote.encode())
    inner = rb"[^" + q + rb"]|" + q + q
    if escape is not None:
        e = re.escape(escape.encode())
        inner = e + rb"[\s\S]|[^" + q + e + rb"]|" + q + q
    return re.compile(opens + blank + rb"*(" + q + rb"(?:" + inner + rb")*+" + q + rb")|" + outside)


def _recode(blocks: Blocks, encoding: str) -> Blocks:
    # What cannot be decoded becomes a byte that no UTF-8 has, so that its record is a fault.
    wide = codecs.lookup(encoding).name.startswith(("utf-16", "utf-32"))
    decoder = codecs.getincrementaldecoder(encoding)("replace" if wide else "surrogateescape")
    first = True
    for block in blocks:
        text = decoder.decode(block)
        if first and text:
            text, first = text.removeprefix("\ufeff"), False
        if text:
            yield _encoded(text)
    text = decoder.decode(b"", True)
    if text:
        yield _encoded(text)


def _encoded(text: str) -> bytes:
    # A replaced character is shown as damage, and a lone surrogate is some.
    return text.encode("utf-8", errors="surrogatepass").replace(b"\xef\xbf\xbd", b"\xff")


def _cr(blocks: Blocks, given: str) -> Blocks:
    for block in blocks:
        yield block.replace(b"\r", b"\n")


def _lines(blocks: Blocks) -> Blocks:
    """Blocks that end with a line break, the last one excepted."""
    pending: list[bytes] = []
    for block in blocks:
        cut = block.rfind(b"\n") + 1
        if cut:
            yield b"".join((*pending, block[:cut]))
            pending = [block[cut:]] if cut < len(block) else []
        else:
            pending.append(block)
    if pending:
        yield b"".join(pending)


def _footer(blocks: Blocks, given: str) -> Blocks:
    """Leaves out up to so many of the last filled lines, as long as they are no records.

    A line with the fields of those over it, more than one of them filled, is a record, and so is
    whatever stands over that. Without a delimiter the lines go as they are counted.
    """
    number, delimiter = given.split(",")
    count, mark = int(number), bytes.fromhex(delimiter)
    held = b""
    for block in blocks:
        held += block
        cut = _last_lines(held, count + _NEIGHBOURS)
        if cut > 0:
            yield held[:cut]
            held = held[cut:]
    yield held[: _records_end(held, count, mark)]


def _last_lines(data: bytes, count: int) -> int:
    """Where the last so many filled lines begin; 0 where there are not more."""
    end = len(data)
    for _ in range(count):
        body = data[:end].rstrip(b"\r\n \t")
        if not body:
            return 0
        end = body.rfind(b"\n") + 1
    return end


def _records_end(data: bytes, count: int, mark: bytes) -> int:
    """Where the records end, and lines behind them begin that are none."""
    widths = Counter(line.count(mark) for line in data.split(b"\n") if line.strip()) if mark else {}
    usual = max(widths, key=lambda width: widths[width], default=0)
    end = len(data)
    for _ in range(count):
        start = _last_lines(data[:end], 1)
        line = data[start:end]
        filled = sum(1 for cell in line.strip().split(mark) if cell.strip()) if mark else 0
        if mark and line.count(mark) >= usual and filled > 1:
            break
        end = start
    return end


def _comment(blocks: Blocks, given: str) -> Blocks:
    """Empties lines that begin with a mark, outside of quoted fields."""
    mark, quote = (bytes([int(number)]) for number in given.split(","))
    odd = 0
    for block in _lines(blocks):
        if not block.startswith(mark) and b"\n" + mark not in block:
            odd = (odd + block.count(quote)) & 1 if quote != b"\0" else 0
            yield block
            continue
        lines = block.split(b"\n")
        for number, line in enumerate(lines):
            if not odd and line.startswith(mark):
                lines[number] = b""
            elif quote != b"\0":
                odd = (odd + line.count(quote)) & 1
        yield b"\n".join(lines)


_RUNS = re.compile(
    rb'(?:(?<=[ \t\n])|\A)("(?:[^"]|"")*")(?=[ \t\r\n]|\Z)|^[ \t]+|([ \t]+)(\r?$)|[ \t]+',
    re.MULTILINE,
)


def _runs(blocks: Blocks, given: str) -> Blocks:
    def change(match: re.Match[bytes]) -> bytes:
        if match[1] is not None:
            return match[1]
        if match[2] is not None:
            return match[3]
        at = match.start()
        return b"" if at == 0 or match.string[at - 1] == 10 else _BETWEEN

    for block in _whole(_lines(blocks), b'"'):
        yield _RUNS.sub(change, block)


def _widths(blocks: Blocks, given: str) -> Blocks:
    """Cuts lines at the places where columns begin.

    Where columns have a blank between them, a line without one at such a place holds a value that
    is too wide, which would be cut in two: it becomes a fault.
    """
    edges = [0]
    for width in given.split(","):
        edges.append(edges[-1] + int(width))
    inner = edges[1:-1]
    apart: list[int] | None = None
    for block in _lines(blocks):
        text = block.decode("utf-8", errors="surrogateescape")
        ends = "\n" if text.endswith("\n") else ""
        lines = [line.removesuffix("\r") for line in text.removesuffix("\n").split("\n")]
        if apart is None:
            filled = [line for line in lines if line.strip()]
            apart = [at for at in inner if 2 * sum(_touches(x, at) for x in filled) < len(filled)]
        made = []
        for line in lines:
            cells = [line[a:b].strip() for a, b in zip(edges[:-1], (*inner, None), strict=True)]
            shown = BETWEEN.join(cells) if line.strip() else ""
            wide = any(_touches(line, at) for at in apart)
            made.append(shown + BETWEEN * len(edges) if wide else shown)
        yield ("\n".join(made) + ends).encode("utf-8", errors="surrogateescape")


def _touches(line: str, at: int) -> bool:
    """Whether a value goes on over a place in a line."""
    return len(line) > at and not line[at - 1].isspace() and not line[at].isspace()


def _space(blocks: Blocks, given: str) -> Blocks:
    """Takes blanks before fields away."""
    mark, quote, escape = given.split(",")
    pattern = around_fields(bytes.fromhex(mark), _character(quote), _character(escape), False)
    for block in _whole(_lines(blocks), (_character(quote) or "").encode()):
        yield pattern.sub(rb"\1", block)


def _character(number: str) -> str | None:
    return chr(int(number)) if number != "0" else None


def _whole(blocks: Blocks, quote: bytes) -> Blocks:
    """Blocks with every quote closed, as far as counting tells."""
    held = b""
    for block in blocks:
        held += block
        if quote and len(held) < LONGEST_HELD and held.count(quote) % 2:
            continue
        yield held
        held = b""
    if held:
        yield held


def _columns(blocks: Blocks, given: str) -> Blocks:
    """Puts the columns of each record into another order; one of another width becomes a fault."""
    mark, quote, escape, before, numbers, *fill = given.split(",")
    order = [int(number) for number in numbers.split(".")]
    delimiter = bytes.fromhex(mark)
    # Bytes are taken as they are, so any encoding that has them all does.
    dialect = Dialect(
        delimiter.decode("latin-1"), _character(quote), False, escape=_character(escape),
        encoding="latin-1", before=int(before),
    )  # fmt: skip
    field, _ = field_patterns(dialect)
    _, passed, blocks = skip_beginning(blocks, dialect)
    yield b"\n" * passed
    for chunk in record_chunks(blocks, dialect, where="", offset=1):
        data, at = chunk.data, 0
        out: list[bytes] = []
        cells: list[bytes] = []
        while at < len(data):
            match = field.match(data, at)
            assert match is not None, "the pattern matches any text"
            at, end = match.end(), match[2]
            cell = match[0][: len(match[0]) - len(end)]
            cells.append(cell)
            if end == delimiter and at < len(data):
                continue
            if end == delimiter:
                cells.append(b"")
            if len(cells) > 1 or cells[0].strip():
                out.append(delimiter.join(_ordered(cells, order, bool(fill), chunk.too_long > 0)))
            out.append(b"\n" if end != delimiter else b"")
            cells = []
        yield b"".join(out)


def _ordered(cells: list[bytes], order: list[int], fill: bool, cut: bool) -> list[bytes]:
    if cut or (fill and len(cells) < len(order)):
        # With more fields than the layout has, it is a fault whatever is filled up.
        return cells + [b""] * (len(order) + 1)
    if len(cells) != len(order):
        return cells
    # A carriage return before the line break is none of the last cell.
    bare = [*cells[:-1], cells[-1].removesuffix(b"\r")]
    return [bare[place] for place in order]


_FORMS: dict[str, Callable[[Blocks, str], Blocks]] = {
    "recode": _recode,
    "cr": _cr,
    "footer": _footer,
    "comment": _comment,
    "runs": _runs,
    "widths": _widths,
    # An archive gives its members from their start on, as they are.
    "flow": lambda blocks, given: blocks,
    "json": json_values,
    "space": _space,
    "columns": _columns,
}
