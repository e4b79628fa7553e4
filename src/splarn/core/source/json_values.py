"""JSON documents of several lines or values, taken apart into one value a line.

Arrays give their elements, other documents follow one another. Line breaks between tokens become
blanks, so that a value is a record; inside a string JSON has none.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from splarn.core.records.scanning import escaped

Blocks = Iterator[bytes]
BLANKS = b" \t\r\n"
QUOTE, BACKSLASH, COMMA, BLANK = b'"\\, '
# What each byte does to the depth, and the bytes that mean something outside of strings.
_STEPS = np.zeros(256, dtype=np.int64)
_STEPS[list(b"[{")], _STEPS[list(b"]}")] = 1, -1
_MARKS = np.zeros(256, dtype=bool)
_MARKS[list(b"[]{},\r\n")] = True


def json_values(blocks: Blocks, given: str = "") -> Blocks:
    """One value a line: the elements of the outermost array, or the documents themselves.

    With `given` as `array`, an outermost array stands around the values. Nothing is held back, so
    that a value may be of any size; what stands between values is left to whoever reads them.
    """
    base = int(given == "array")
    depth = 0
    quoted = open_escape = False
    for block in blocks:
        # A backslash at the end of a block tells of the first byte of the next.
        data = b"\\" + block if open_escape else block
        view = np.frombuffer(data, dtype=np.uint8)
        quotes = np.flatnonzero(view == QUOTE)
        if len(quotes):
            quotes = quotes[~escaped(view, quotes, BACKSLASH)]
        marks = np.flatnonzero(_MARKS[view])
        marks = marks[((np.searchsorted(quotes, marks) + quoted) & 1) == 0]
        characters = view[marks]
        steps = _STEPS[characters]
        depths = depth + np.cumsum(steps)
        # Outside of strings line breaks are blanks, and so is what separates values.
        between = (characters == COMMA) & (depths == base)
        outer = ((steps > 0) & (depths == base)) | ((steps < 0) & (depths < base))
        plain = (characters == 10) | (characters == 13) | between | (outer if base else False)
        made = view.copy()
        made[marks[plain]] = BLANK
        ends = marks[(steps < 0) & (depths == base)] + 1
        made = np.insert(made, ends, 10)
        yield made[int(open_escape) :].tobytes()
        depth = int(depths[-1]) if len(depths) else depth
        quoted = bool((len(quotes) + quoted) & 1)
        last = escaped(view, np.array([len(view)]), BACKSLASH)
        open_escape = bool(last[0])


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

    first, end, second = text.partition(b"\n")
    try:
        json.loads(first)
    except (ValueError, RecursionError):
        inner = text[1:].lstrip(BLANKS)
        # An object that begins and goes on with a name or ends.
        several = inner[:1] in (b'"', b"}") and bool(end) and not _is_lines(second)
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
