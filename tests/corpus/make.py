"""Tables made up and written in any dialect with any oddity, and what must come back of them."""

from __future__ import annotations

import random
from dataclasses import dataclass

NAMES = ("passage_no", "lock", "boat", "keeper", "toll", "level", "entered", "open", "remark")
# How a header is odd, and which names come of it.
HEADERS = ("plain", "plain", "plain", "blank first", "years", "twice", "shouted")
WORDS = (
    "two\nlines",
    "Low Weir",
    "Upper Lock",
    "Fen",
    "Ada",
    "the Heron",
    "grey; slow",
    "a, b",
    "Ünder",
    "x|y",
)


@dataclass(frozen=True)
class Made:
    """A file's bytes with the names and cells in it; a cell is None where there is no value."""

    data: bytes
    names: tuple[str, ...]
    rows: tuple[tuple[str | None, ...], ...]
    what: str


def make(seed: int) -> Made:
    """A made-up file; its number decides everything."""
    chance = random.Random(seed)
    count = chance.randint(12, 80)
    kinds = ["number", *chance.choices(("code", "word", "decimal", "day", "time", "text"),
                                       k=chance.randint(1, 5))]  # fmt: skip
    names = ("passage_no", *(f"{kind}_{at}" for at, kind in enumerate(kinds[1:], 1)))
    delimiter = chance.choice((",", ";", "\t", "|", "||", "~", "^"))
    quoting = chance.choice(("needed", "needed", "text", "all"))
    header = chance.random() < 0.8
    comma = delimiter != "," and chance.random() < 0.2
    odd_header = chance.choice(HEADERS) if header else ""
    written = list(names)
    if odd_header == "blank first":
        written[0], names = "", ("column_1", *names[1:])
    elif odd_header == "years" and len(kinds) > 3:
        kinds[2:] = ["decimal"] * (len(kinds) - 2)
        years = tuple(str(1990 + at) for at in range(len(kinds) - 2))
        written[2:], names = years, (*names[:2], *years)
    elif odd_header == "twice" and len(kinds) > 2:
        written[-1], names = written[1], (*names[:-1], f"{names[1]}_2")
    elif odd_header == "shouted":
        written = [name.upper() for name in written]
        names = tuple(written)
    rows = [tuple(_value(chance, kind, number) for kind in kinds) for number in range(1, count + 1)]
    lines = [_line(tuple(written), kinds, delimiter, quoting, False, True)] if header else []
    lines += [_line(row, kinds, delimiter, quoting, comma, False) for row in rows]
    odd = [f"{delimiter!r}", quoting, f"{odd_header} header" if header else "no header"]
    if chance.random() < 0.15 and len(kinds) > 2:
        lines += ["", "Source: the books of the weir keeper"]
        odd.append("footer")
    if chance.random() < 0.2 and len(kinds) > 2:
        lines[:0] = ["Tolls of the Larkmere Waterways", ""]
        odd.append("title")
    elif chance.random() < 0.15:
        lines[:0] = ["# written by the weir keeper"]
        odd.append("comment")
    end = chance.choice(("\n", "\n", "\r\n", "\r"))
    encoding = chance.choice(
        ("utf-8", "utf-8", "utf-8-sig", "utf-16", "utf-16-be", "utf-32", "cp1252")
    )
    text = end.join(lines) + (end if chance.random() < 0.8 else "")
    if end == "\r":
        # There a line break in a text is written as the others are, and read as them.
        text = text.replace("\n", "\r")
    odd += [repr(end), encoding, "decimal comma" if comma else ""]
    shown = names if header else tuple(f"field_{at}" for at in range(1, len(names) + 1))
    return Made(text.encode(encoding), shown, tuple(rows), ", ".join(filter(None, odd)))


def _value(chance: random.Random, kind: str, number: int) -> str | None:
    if kind != "number" and chance.random() < 0.05:
        return None
    return {
        "number": str(number * 7),
        "code": f"L{chance.randrange(100):03d}",
        "word": chance.choice(("red", "blue", "green")),
        "decimal": f"{chance.randrange(1, 999)}.{chance.randrange(10, 99)}",
        "day": f"2031-{chance.randrange(1, 13):02d}-{chance.randrange(1, 29):02d}",
        "time": f"{chance.randrange(24):02d}:{chance.randrange(60):02d}:00",
        "text": chance.choice(WORDS),
    }[kind]


def _line(
    row: tuple[str | None, ...],
    kinds: list[str],
    delimiter: str,
    quoting: str,
    comma: bool,
    header: bool,
) -> str:
    cells = []
    for value, kind in zip(row, kinds, strict=True):
        text = value or ""
        if comma and kind == "decimal":
            text = text.replace(".", ",")
        special = any(mark in text for mark in (delimiter, '"', "\n", "\r", *delimiter))
        wanted = special or (quoting == "all" and value is not None)
        wanted = wanted or (quoting == "text" and kind in ("code", "word", "text") and text != "")
        cells.append('"' + text.replace('"', '""') + '"' if wanted else text)
    return delimiter.join(cells)
