"""Sizes, durations, counts and shares, read and written the way people write them."""

from __future__ import annotations

import math
import re

from splarn.core.errors import RequestError

_SIZE_UNITS = {
    "": 1,
    "b": 1,
    "kb": 10**3,
    "mb": 10**6,
    "gb": 10**9,
    "tb": 10**12,
    "kib": 2**10,
    "mib": 2**20,
    "gib": 2**30,
    "tib": 2**40,
}
_COUNT_UNITS = {"": 1, "k": 10**3, "m": 10**6, "g": 10**9}
_TIME_UNITS = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0}
_NUMBER = re.compile(r"\s*([0-9][0-9_]*(?:\.[0-9]+)?)\s*([a-zA-Z]*)\s*")
_TIME_PIECE = re.compile(r"([0-9][0-9_]*(?:\.[0-9]+)?)\s*(ms|s|m|h|d)")


def _scaled(text: str, units: dict[str, int], what: str, example: str) -> int:
    match = _NUMBER.fullmatch(text)
    if not match or match[2].lower() not in units:
        raise RequestError(f"{text!r} is not a {what}: write it like {example}.")
    return round(float(match[1].replace("_", "")) * units[match[2].lower()])


def parse_size(text: str | int) -> int:
    """Bytes in a size such as `64MiB`, `1.5 GB` or `4096`.

    Raises RequestError when the text is no size.
    """
    return text if isinstance(text, int) else _scaled(text, _SIZE_UNITS, "size", "64MiB or 500MB")


def parse_count(text: str | int) -> int:
    """A whole number such as `2_000_000` or `50k`.

    Raises RequestError when the text is no count.
    """
    return text if isinstance(text, int) else _scaled(text, _COUNT_UNITS, "count", "50_000 or 50k")


def parse_duration(text: str | int | float) -> float:
    """Seconds in a duration such as `45m`, `1h30m`, `90` or `250ms`.

    Raises RequestError when the text is no duration.
    """
    if isinstance(text, int | float):
        return float(text)
    compact = text.strip().replace(" ", "")
    try:
        return float(compact.replace("_", ""))
    except ValueError:
        pieces = _TIME_PIECE.findall(compact)
        if not pieces or "".join(a + b for a, b in pieces) != compact:
            raise RequestError(f"{text!r} is not a duration: write it like 45m or 1h30m.") from None
        return sum(float(number.replace("_", "")) * _TIME_UNITS[unit] for number, unit in pieces)


def parse_share(text: str | float) -> float:
    """A probability such as `0.9` or `90%`.

    Raises RequestError when the text is no number between 0 and 1.
    """
    try:
        if isinstance(text, str) and text.strip().endswith("%"):
            value = float(text.strip()[:-1]) / 100
        else:
            value = float(text)
    except ValueError:
        value = -1.0
    if not 0 < value < 1:
        raise RequestError(f"{text!r} is not a share: write it like 0.9 or 90%.")
    return value


def show_size(size: float) -> str:
    """A size in binary units with three figures: `64.0 MiB`."""
    for unit in ("B", "KiB", "MiB", "GiB"):
        if abs(size) < 1024:
            return f"{size:.0f} {unit}" if unit == "B" else f"{size:.{_places(size)}f} {unit}"
        size /= 1024
    return f"{size:.{_places(size)}f} TiB"


def exact_size(size: int) -> str:
    """A size that reads back to the same bytes: `64MiB`, or plain bytes when it is not round."""
    for unit, scale in (("GiB", 2**30), ("MiB", 2**20), ("KiB", 2**10)):
        if size and size % scale == 0:
            return f"{size // scale}{unit}"
    return str(size)


def show_duration(seconds: float) -> str:
    """A duration in two units at most: `0.42 s`, `12.3 s`, `4m 05s`, `2h 10m`."""
    if seconds < 0.0995:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 9.95:
        return f"{seconds:.2f} s"
    if seconds < 59.95:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 3600:
        return f"{whole // 60}m {whole % 60:02d}s"
    if whole < 86400:
        return f"{whole // 3600}h {whole % 3600 // 60:02d}m"
    return f"{whole // 86400}d {whole % 86400 // 3600:02d}h"


def show_count(count: float) -> str:
    """A count with thin grouping: `2,000,000`."""
    return f"{round(count):,}"


def show_money(amount: float, currency: str) -> str:
    """An amount with as many places as it needs to say something: `0.0042 crowns`."""
    if amount == 0:
        return f"0 {currency}"
    if abs(amount) < 1:
        places = 2 - math.floor(math.log10(abs(amount)))
        return f"{amount:.{places}f} {currency}"
    return f"{amount:,.{2 if abs(amount) >= 10 else 3}f} {currency}"


def plural(count: int, noun: str) -> str:
    """`1 part`, `3 parts`."""
    return f"{count:,} {noun}{'' if count == 1 else 's'}"


def _places(size: float) -> int:
    return 2 if size < 10 else 1 if size < 100 else 0


def tier_units(name: str) -> int:
    """The units in a tier's name, as 16 in u16; 0 where the name tells none."""
    digits = name.removeprefix("u")
    return int(digits) if digits.isdigit() else 0
