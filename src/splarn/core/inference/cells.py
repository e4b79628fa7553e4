"""What a single cell means to a reader: whether it is a number, a date, an address, a text.

Dialects are judged by how meaningful their cells are, after van den Burg, Nazábal and Sutton 2019,
"Wrangling messy CSV files by detecting row and type patterns".
"""

from __future__ import annotations

import re
from functools import lru_cache

# Words that stand for no value; in lower case.
NOTHING = frozenset(
    ("", "null", "\\n", "na", "n/a", "nan", "none", "nil", "-", "--", ".", "?", "#n/a", "..", "...")
)

NUMBER = re.compile(
    r"[+\-−]?(?:[$€£¥]\s?)?"
    r"(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+|[0-9]{1,3}(?:[,'’ \u00a0\u202f][0-9]{3})+"
    r"(?:\.[0-9]*)?)(?:[eE][+-]?[0-9]+)?\s?(?:%|[$€£¥])?|\([0-9][0-9.,]*\)"
)
COMMA_NUMBER = re.compile(
    r"[+\-−]?(?:[$€£¥]\s?)?(?:[0-9]+|[0-9]{1,3}(?:[.'’ \u00a0\u202f][0-9]{3})+),[0-9]+"
    r"\s?(?:%|[$€£¥])?"
)
_DAY = (
    r"(?:[0-9]{1,4}[-/.][0-9]{1,2}[-/.][0-9]{1,4}|[0-9]{8}"
    r"|[0-9]{1,2}[- ]?[A-Za-z]{3,9}[-., ]*[0-9]{2,4}"
    r"|[A-Za-z]{3,9}\.? [0-9]{1,2},? [0-9]{4}|[A-Za-z]{3}[- ][0-9]{2,4})"
)
_CLOCK = r"(?:[0-9]{1,2}:[0-9]{2}(?::[0-9]{2}(?:[.,][0-9]{1,9})?)?\s?(?:[AaPp]\.?[Mm]\.?)?)"
MOMENT = re.compile(
    rf"{_DAY}|{_CLOCK}|{_DAY}[T ]\s?{_CLOCK}\s?(?:Z|UTC|GMT|[+-][0-9]{{2}}:?[0-9]{{2}})?"
)
ADDRESS = re.compile(
    r"(?:[a-z][a-z0-9+.\-]*://|www\.)\S+|[\w.+\-]+@[\w\-]+(?:\.[\w\-]+)+"
    r"|[0-9]{1,3}(?:\.[0-9]{1,3}){3}(?::[0-9]+)?(?:/[0-9]+)?"
    r"|[0-9A-Fa-f]{2}(?:[:\-][0-9A-Fa-f]{2}){5}|(?:[A-Za-z]:)?[\\/](?:[\w.\- ]+[\\/]?)+"
    r"|[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}"
)
_WORD = re.compile(r"[^\W_]")
# Marks that separate fields somewhere, and seldom stand in a text without a blank behind them.
_LEFT_OVER = re.compile(r"[\t|;~^]|,(?! )|\x1f|\x01")


@lru_cache(maxsize=1 << 16)
def meaning(cell: str, delimiter: str) -> float:
    """How sure it is that a cell is one value, from 0 to 1, with this delimiter between cells."""
    text = cell.strip(" ")
    if text.lower() in NOTHING or NUMBER.fullmatch(text) or MOMENT.fullmatch(text):
        return 1.0
    if COMMA_NUMBER.fullmatch(text):
        # A comma for decimals goes with another mark between fields.
        return 0.2 if delimiter in ",: " else 1.0
    if ADDRESS.fullmatch(text):
        return 1.0
    if not _WORD.search(text):
        return 0.3
    if _LEFT_OVER.search(text):
        # What another dialect would take apart.
        return 0.1
    if text.count('"') % 2 or (text[:1] in "\"'" and text[-1:] != text[:1]):
        return 0.3
    return 0.9 if cell[:1] == " " else 0.95


@lru_cache(maxsize=1 << 14)
def is_value(cell: str) -> bool:
    """Whether a cell is surely a value of some kind rather than a name or a text."""
    text = cell.strip()
    return bool(
        NUMBER.fullmatch(text) or COMMA_NUMBER.fullmatch(text) or MOMENT.fullmatch(text)
    ) or text.lower() in ("true", "false")
