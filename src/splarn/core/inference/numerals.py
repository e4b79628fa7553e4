"""Numbers as people write them: whole, decimal, with exponents, groups and other marks."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

from splarn.core.layout.fields import Field
from splarn.core.reading.notations import (
    DOUBLE_DIGITS,
    SIGNS,
    comes_back,
    decorated_pattern,
    undecorated,
)

_INTEGER = re.compile(r"-?(?:0|[1-9][0-9]*)")
_DIGITS = re.compile(r"[+-]?[0-9]+")
_PADDED = re.compile(r"[+-]?0[0-9]+(?:\.[0-9]*)?")
_DECIMAL = re.compile(r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)")
_FLOAT = re.compile(
    r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?|[+-]?(?:inf|Inf|INF|Infinity)"
)
_PHONE = re.compile(r"\+[0-9]{7,}")
# Later values may be this many times as large as the sampled ones.
ROOM = 100
MOST_DIGITS = 38
# Decimals whose number varies that much were printed from binary numbers, not kept in books.
MANY_DECIMALS = 7

# Names of columns that may count from 1970.
_SINCE = re.compile(r"epoch|unix|timestamp|time|date|_ts$|_at$|created|updated|modified|seen")

Found = tuple[Field, tuple[str, ...]]


def guess_number(name: str, telling: Sequence[str], whole: bool) -> Found | None:
    """A number field for the values, or text where numbers would not come back; None for neither.

    `whole` says that there are no further values.
    """
    from splarn.core.inference.misfits import misses, spoiled

    total = len(telling)
    missed = misses(telling, _FLOAT.fullmatch)
    if missed is None:
        return _decorated(name, telling)
    fitting = [value for value in telling if _FLOAT.fullmatch(value)]
    text = _kept_as_text(name, fitting)
    if text is not None:
        return text
    if all(_INTEGER.fullmatch(value) for value in fitting):
        return _integer(name, fitting, spoiled(name, "integer", missed, total))
    if all(_DECIMAL.fullmatch(value) for value in fitting):
        field, notes = _decimal(name, fitting, whole)
        return field, (*notes, *spoiled(name, "number", missed, total))
    lossy = [value for value in fitting if not comes_back(value)]
    if lossy:
        return Field(name), (
            f"{name}: numbers with more digits than can be kept (such as {lossy[0][:50]!r}); "
            "kept as text",
        )
    return Field(name, "number"), spoiled(name, "number", missed, total)


def _kept_as_text(name: str, values: Sequence[str]) -> Found | None:
    padded = [value for value in values if _PADDED.fullmatch(value)]
    if padded:
        whole = all(_DIGITS.fullmatch(value) for value in padded)
        words = "digits" if whole else "numbers"
        return Field(name), (
            f"{name}: {words} with leading zeros (such as {padded[0][:40]!r}); kept as text",
        )
    phones = [value for value in values if _PHONE.fullmatch(value)]
    if phones:
        return Field(name), (
            f"{name}: digits with a plus sign (such as {phones[0][:40]!r}); kept as text",
        )
    return None


def _integer(name: str, values: Sequence[str], notes: tuple[str, ...]) -> Found:
    largest = max(abs(int(value)) for value in values)
    if largest >= 1 << 63:
        digits = len(str(largest))
        if digits > MOST_DIGITS:
            return Field(name), (f"{name}: numbers of {digits} digits; kept as text",)
        return Field(name, "number", precision=min(digits + 2, MOST_DIGITS), scale=0), (
            *notes,
            f"{name}: numbers of up to {digits} digits, more than an integer of 64 bits holds; "
            "kept as exact decimals",
        )
    if _SINCE.search(name.lower()):
        moments = [int(value) for value in values]
        for form, low in (("epoch", 10**8), ("epoch-ms", 10**11), ("epoch-us", 10**14)):
            if all(low <= one < low * 50 for one in moments):
                notes = (
                    *notes,
                    f"{name}: looks like moments counted from 1970; the type datetime with the "
                    f"format {form} reads them so",
                )
    keys = len(values) >= 500 and len(set(values)) == len(values)
    room = largest * ROOM
    bits = 64 if keys else 16 if room < 1 << 15 else 32 if room < 1 << 31 else 64
    return Field(name, "integer", bits=bits), notes


def _decimal(name: str, values: Sequence[str], sampled_whole: bool) -> Found:
    whole = scale = 0
    scales = set()
    for value in values:
        before, _, after = value.lstrip("+-").partition(".")
        whole, scale = max(whole, len(before)), max(scale, len(after))
        scales.add(len(after))
    if scale >= MANY_DECIMALS and len(scales) > 2 and all(map(comes_back, values)):
        # Printed from doubles, so doubles bring every one of them back.
        return Field(name, "number"), ()
    if whole + scale > MOST_DIGITS:
        return Field(name), (
            f"{name}: numbers of up to {whole + scale} digits, more than can be kept; kept as text",
        )
    if len(scales) > 1 and not sampled_whole:
        # Further decimals may come where their number varies.
        scale = min(scale + 2, MOST_DIGITS - whole)
    # The largest value is seldom in the sample, and room up to 15 digits costs nothing.
    precision = min(max(whole + 2 + scale, min(whole + 6 + scale, DOUBLE_DIGITS)), MOST_DIGITS)
    return Field(name, "number", precision=precision, scale=scale), ()


# Marks for decimals and groups, in the order in which they are tried.
_MARKS = ((".", ","), (",", "."), (".", "'"), (".", "’"), (",", " "), (",", "\u00a0"),
          (",", "\u202f"), (".", " "), (".", "\u00a0"))  # fmt: skip


def _decorated(name: str, telling: Sequence[str]) -> Found | None:
    """Numbers with a decimal comma, groups, per cent, a currency, or brackets for below zero."""
    from splarn.core.inference.misfits import misses, spoiled

    for decimal, group in _MARKS:
        pattern = decorated_pattern(decimal, group, bare=False, brackets=True)
        missed = misses(telling, pattern.fullmatch)
        if missed is None:
            continue
        fitting = [value for value in telling if pattern.fullmatch(value)]
        return _field_of(
            name, fitting, decimal, group, spoiled(name, "number", missed, len(telling))
        )
    return None


def _field_of(
    name: str, values: Sequence[str], decimal: str, group: str, notes: tuple[str, ...]
) -> Found | None:
    grouped = any(group in value for value in values)
    brackets = any(value.startswith("(") for value in values)
    signs = Counter(sign for value in values for sign in re.findall(rf"{SIGNS}|%", value))
    if len(signs) > 1 or 0 < signs["%"] < len(values):
        # Amounts of several currencies are not of one kind, nor are shares and numbers.
        return None
    bare = not signs
    plain = [undecorated(value, decimal, group) for value in values]
    padded = [value for value in plain if _PADDED.fullmatch(value)]
    if padded:
        return None
    whole = max(len(value.lstrip("+-").partition(".")[0]) for value in plain)
    scale = max(len(value.partition(".")[2]) for value in plain)
    if whole + scale > MOST_DIGITS - 2:
        return None
    said = []
    if decimal != ".":
        said.append("a decimal comma")
    if grouped:
        names = {",": "commas", ".": "points", "'": "apostrophes", "’": "apostrophes"}
        said.append(f"{names.get(group, 'blanks')} between thousands")
    if brackets:
        said.append("brackets for numbers below zero")
    if signs:
        (sign,) = signs
        said.append(
            "a per cent sign, which is left out" if sign == "%" else f"{sign}, which is left out"
        )
    if not grouped and decimal == "," and scale == 3 and whole <= 3:
        said.append("or a comma between thousands, so check")
    example = next((value for value in values if not _FLOAT.fullmatch(value)), values[0])
    notes = (
        f"{name}: numbers with {', '.join(said)} ({example[:24]!r} is read as "
        f"{undecorated(example, decimal, group)})",
        *notes,
    )
    return Field(
        name, "number", precision=min(max(whole + 2 + scale, DOUBLE_DIGITS), MOST_DIGITS),
        scale=scale, decimal_char=decimal, group_char=group if grouped else "", bare_number=bare,
        sign=next(iter(signs), None),
        brackets=brackets,
    ), notes  # fmt: skip
