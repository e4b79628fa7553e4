"""Forms: text of other encodings and shapes, made plain records on plain lines as it is read.

Each form takes blocks and gives blocks. A line stays a line, so that faults name the delivery's own
line; what is no record becomes a blank one.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from splarn.core.json_values import json_values

Blocks = Iterator[bytes]
# A quote that stays open for so many bytes is none.
LONGEST_HELD = 8 << 20
BETWEEN = b"\x1f"


def reshaped(blocks: Iterable[bytes], forms: Iterable[str]) -> Blocks:
    """Blocks with all the forms done, one after the other.

    Raises UnicodeDecodeError where text is not of the encoding that a form names.
    """
    found = iter(blocks)
    for form in forms:
        name, _, given = form.partition("=")
        found = _FORMS[name](found, given)
    return found


def _recode(blocks: Blocks, encoding: str) -> Blocks:
    # What cannot be decoded becomes a byte that no UTF-8 has, so that its record is a fault.
    decoder = codecs.getincrementaldecoder(encoding)(errors="surrogateescape" if _single(encoding)
                                                     else "replace")  # fmt: skip
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


def _single(encoding: str) -> bool:
    return not codecs.lookup(encoding).name.startswith(("utf-16", "utf-32"))


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
    """Leaves out the last lines that are not blank, with the blank ones among them."""
    count = int(given)
    held = b""
    for block in blocks:
        held += block
        cut = _last_lines(held, count)
        if cut > 0:
            yield held[:cut]
            held = held[cut:]
    return


def _last_lines(data: bytes, count: int) -> int:
    """Where the last so many filled lines begin; 0 where there are not more."""
    end = len(data)
    while count:
        body = data[:end].rstrip(b"\r\n \t")
        if not body:
            return 0
        end = body.rfind(b"\n") + 1
        count -= 1
    return end


def _comment(blocks: Blocks, given: str) -> Blocks:
    """Empties lines that begin with a mark, outside of quoted fields."""
    mark, quote = (bytes([int(number)]) for number in given.split(","))
    odd = 0
    first = True
    for block in _lines(blocks):
        begins = first and block.startswith(mark)
        first = False
        if not begins and b"\n" + mark not in block:
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


_BLANKS = re.compile(rb"[ \t]+")
_BLANKS_OR_QUOTED = re.compile(
    rb'((?:(?<=[ \t\n])|(?<![\s\S]))"(?:[^"]|"")*"(?=[ \t\r\n]|\Z))|[ \t]+'
)
_EDGES = re.compile(rb"^[ \t]+|[ \t]+(?=\r?$)", re.MULTILINE)


def _runs(blocks: Blocks, given: str) -> Blocks:
    for block in _lines(blocks):
        data = _EDGES.sub(b"", block)
        if b'"' in data:
            yield _BLANKS_OR_QUOTED.sub(lambda match: match[1] or BETWEEN, data)
        else:
            yield _BLANKS.sub(BETWEEN, data)


def _widths(blocks: Blocks, given: str) -> Blocks:
    widths = [int(width) for width in given.split(",")]
    edges, at = [], 0
    for width in widths:
        edges.append((at, at + width))
        at += width
    edges[-1] = (edges[-1][0], 1 << 30)
    for block in _lines(blocks):
        text = block.decode("utf-8", errors="surrogateescape")
        ends = "\n" if text.endswith("\n") else ""
        lines = []
        for line in text.removesuffix("\n").split("\n"):
            plain = line.removesuffix("\r")
            lines.append("\x1f".join(plain[a:b].strip() for a, b in edges) if plain.strip() else "")
        yield ("\n".join(lines) + ends).encode("utf-8", errors="surrogateescape")


def _space(blocks: Blocks, given: str) -> Blocks:
    """Takes blanks behind delimiters and line breaks away, outside of quoted fields."""
    mark, quote = given.split(",")
    delimiter, q = re.escape(bytes.fromhex(mark)), re.escape(bytes([int(quote)]))
    before = rb"(" + delimiter + rb"|\n)[ \t]+"
    if quote == "0":
        pattern = re.compile(before)
        for block in _lines(blocks):
            yield pattern.sub(rb"\1", block)
        return
    # A quoted field is passed over whole; it opens behind a delimiter or a line break alone.
    quoted = (
        rb"((?:"
        + delimiter
        + rb"|\n|\A)[ \t]*"
        + q
        + rb"(?:[^"
        + q
        + rb"]|"
        + q
        + q
        + rb")*+"
        + q
        + rb")"
    )
    pattern = re.compile(quoted + rb"|" + before)
    strip = re.compile(rb"(" + delimiter + rb"|\n|\A)[ \t]+")
    held = b""

    def change(match: re.Match[bytes]) -> bytes:
        return strip.sub(rb"\1", match[1], count=1) if match[1] is not None else match[2]

    for block in _lines(blocks):
        data = held + block
        # A field that goes on in the next block waits for it.
        if len(data) < LONGEST_HELD and data.count(bytes([int(quote)])) % 2:
            held = data
            continue
        held = b""
        yield pattern.sub(change, data)
    if held:
        yield pattern.sub(change, held)


def _columns(blocks: Blocks, given: str) -> Blocks:
    """Puts the columns of each record into another order; records of another width stay."""
    mark, quote, numbers = given.split(",")
    order = [int(number) for number in numbers.split(".")]
    delimiter, q = bytes.fromhex(mark), bytes([int(quote)])
    d, inside = re.escape(delimiter), re.escape(q)
    plain = rb"(?:(?!" + d + rb")[^\n])*+"
    quoted = inside + rb"(?:[^" + inside + rb"]|" + inside * 2 + rb")*+" + inside + plain + rb"|"
    field = re.compile(
        rb"(?:" + (b"" if quote == "0" else quoted) + plain + rb")(?:" + d + rb"|\n|\Z)"
    )
    for block in _whole_records(blocks, b"" if quote == "0" else q):
        out: list[bytes] = []
        cells: list[bytes] = []
        at = 0
        while at < len(block):
            match = field.match(block, at)
            assert match is not None, "the pattern matches any text"
            at, cell, end = match.end(), match[0], b""
            last = cell.endswith(b"\n") or at >= len(block)
            if cell.endswith(b"\n"):
                end = b"\r\n" if cell.endswith(b"\r\n") else b"\n"
                cell = cell.removesuffix(end)
            elif cell.endswith(delimiter):
                cell = cell.removesuffix(delimiter)
            cells.append(cell)
            if last:
                chosen = [cells[place] for place in order] if len(cells) == len(order) else cells
                out.append(delimiter.join(chosen) + end)
                cells = []
        yield b"".join(out)


def _whole_records(blocks: Blocks, quote: bytes) -> Blocks:
    """Blocks of whole lines with every quote closed."""
    held = b""
    for block in _lines(blocks):
        held += block
        if quote and len(held) < LONGEST_HELD and held.count(quote) % 2:
            continue
        yield held
        held = b""
    if held:
        yield held


_FORMS: dict[str, Callable[[Blocks, str], Blocks]] = {
    "recode": _recode,
    "cr": _cr,
    "footer": _footer,
    "comment": _comment,
    "runs": _runs,
    "widths": _widths,
    "flow": lambda blocks, given: blocks,
    "json": json_values,
    "space": _space,
    "columns": _columns,
}


def register(name: str, form: Any) -> None:
    """Adds a form under a name."""
    _FORMS[name] = form
