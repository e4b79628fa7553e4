"""JSON documents of several lines or values, taken apart into one value a line.

Arrays give their elements, other documents follow one another. Line breaks between tokens become
blanks, so that a value is a record; inside a string JSON has none.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

Blocks = Iterator[bytes]
OPEN, CLOSE = (91, 123), (93, 125)
BLANKS = b" \t\r\n"


def json_values(blocks: Blocks, given: str = "") -> Blocks:
    """One value a line: the elements of the outermost arrays, or the documents themselves.

    With `given` as `array`, an outermost array stands around the values.
    """
    scanner = _Scanner(int(given == "array"))
    for block in blocks:
        found = scanner.feed(block)
        if found:
            yield found
    rest = scanner.end()
    if rest:
        yield rest


class _Scanner:
    """Follows quotes and depth over blocks; `base` is the depth around the values."""

    def __init__(self, base: int) -> None:
        self._base = base
        self._held = b""

    def feed(self, block: bytes) -> bytes:
        """Takes a block; gives the values that are whole by now, each with a line break."""
        data = self._held + block
        ends = self._ends(data)
        if not len(ends):
            self._held = data
            return b""
        cut = int(ends[-1]) + 1
        self._held = data[cut:]
        return self._lines(data[:cut], ends)

    def end(self) -> bytes:
        """What is left is a value that was cut short, or nothing."""
        rest = self._held.strip(BLANKS + b",")
        if self._base and rest == b"]":
            return b""
        return _one_line(rest) + b"\n" if rest else b""

    def _ends(self, data: bytes) -> Any:
        """Where values end that are objects or arrays."""
        view = np.frombuffer(data, dtype=np.uint8)
        quotes = np.flatnonzero(view == 34)
        if len(quotes):
            quotes = quotes[~_escaped(view, quotes)]
        opens = (view == OPEN[0]) | (view == OPEN[1])
        closes = (view == CLOSE[0]) | (view == CLOSE[1])
        places = np.flatnonzero(opens | closes)
        outside = (np.searchsorted(quotes, places) & 1) == 0
        places = places[outside]
        depth = np.cumsum(np.where(opens[places], 1, -1))
        if not self._started and self._base:
            # The outermost array's own bracket.
            depth -= 1
        return places[(depth == 0) & closes[places]]

    _started = False

    def _lines(self, data: bytes, ends: Any) -> bytes:
        out = []
        begin = 0
        for end in ends.tolist():
            piece = data[begin : end + 1].strip(BLANKS + b",")
            if self._base and not self._started:
                piece = piece.removeprefix(b"[").strip(BLANKS)
                self._started = True
            out.append(_one_line(piece))
            begin = end + 1
        return b"\n".join(out) + b"\n"


def _one_line(piece: bytes) -> bytes:
    return piece.replace(b"\r", b" ").replace(b"\n", b" ")


def _escaped(view: Any, at: Any) -> Any:
    """Which of the positions come after an odd run of backslashes."""
    odd = np.zeros(len(at), dtype=bool)
    back = 1
    active = np.flatnonzero(at >= 1)
    while len(active := active[view[at[active] - back] == 92]):
        odd[active] ^= True
        back += 1
        active = active[at[active] >= back]
    return odd


def form_of_json(head: bytes) -> str | None:
    """How a JSON text is written: `lines`, `array`, `values`, or None for no JSON objects.

    `lines` is an object a line; `array` is one array of objects around all; `values` are objects
    that follow one another and take several lines or share one.
    """
    text = head.lstrip(BLANKS)
    if text[:1] == b"[":
        inner = text[1:].lstrip(BLANKS)
        return "array" if inner[:1] in (b"{", b"]") else None
    if text[:1] != b"{":
        return None
    import json

    first, end, rest = text.partition(b"\n")
    try:
        json.loads(first)
    except (ValueError, RecursionError):
        inner = text[1:].lstrip(BLANKS)
        # An object that begins and goes on with a name or ends.
        several = inner[:1] in (b'"', b"}") and bool(end) and not _is_lines(rest)
        glued = b"}{" in first.replace(b" ", b"") and first.rstrip().endswith(b"}")
        return "values" if several or glued else "lines"
    return "lines"


def _is_lines(rest: bytes) -> bool:
    """Whether later lines are objects of their own, so that only the first one is damaged."""
    import json

    good = bad = 0
    for line in rest.split(b"\n")[:50]:
        if not line.strip():
            continue
        try:
            good += isinstance(json.loads(line), dict)
        except (ValueError, RecursionError):
            bad += 1
    return good > bad
