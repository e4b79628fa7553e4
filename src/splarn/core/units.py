"""Sizes, durations, counts and shares, read and written the way people write them."""

from __future__ import annotations

import math
import re
from collections.abc import Callable

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
        raise RequestError(f"{text!r} is no {what}; write it like {example}.")
    return round(float(match[1].replace("_", "")) * units[match[2].lower()])


def parse_size(text: str | int) -> int:
    """Bytes in a size such as `64MiB`, `1.5 GB` or `4096`.

    Raises RequestError when the text is no size.
    """
    return text if isinstance(text, int) else _scaled(text, _SIZE_UNITS, "size", "64MiB or 500MB")


def parse_volume(text: str | int) -> int:
    """A size as `parse_size` reads it, of something rather than nothing.

    Raises RequestError when the text is no size, or 0.
    """
    size = parse_size(text)
    if size <= 0:
        raise RequestError(f"{text!r} is nothing to load; write it like 200GB.")
    return size


def parse_rate(text: str) -> float:
    """Bytes a second in a rate such as `1Gbit/s`, `80MB/s` or `10MiB/s`.

    Raises RequestError when the text is no rate.
    """
    compact = text.strip().replace(" ", "").removesuffix("/s")
    bits = compact.lower().endswith("bit")
    try:
        rate = parse_size(compact[:-3] + "B" if bits else compact)
    except RequestError:
        rate = 0
    if not rate or not compact[-1:].isalpha():
        raise RequestError(f"{text!r} is no rate; write it like 1Gbit/s or 80MB/s.")
    return rate / 8 if bits else float(rate)


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
        if not 0 <= text < float("inf"):
            raise RequestError(f"{text!r} is no duration; write it like 45m or 1h30m.")
        return float(text)
    compact = text.strip().replace(" ", "")
    try:
        return float(compact) if compact[:1].isdigit() else float("none")
    except ValueError:
        pieces = _TIME_PIECE.findall(compact)
        if not pieces or "".join(a + b for a, b in pieces) != compact:
            raise RequestError(f"{text!r} is no duration; write it like 45m or 1h30m.") from None
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
        raise RequestError(f"{text!r} is no share; write it like 0.9 or 90%.")
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


def show_money(amount: float, currency: str = "") -> str:
    """An amount to three figures: `0.0042 crowns`, `12.3`, `1,230`."""
    places = 0
    if amount:
        size = math.floor(math.log10(abs(float(f"{amount:.2e}"))))
        places = 2 - size
    rounded = round(amount, places)
    return f"{rounded:,.{max(places, 0)}f} {currency}".strip()


def show_change(share: float) -> str:
    """A change by a share, with its sign: `+13 %`, `-2 %`, `0 %`."""
    points = round(share * 100)
    return f"{points:+,d} %" if points else "0 %"


def show_range(low: float, high: float, show: Callable[[float], str]) -> str:
    """Two figures with a dash, and the unit once where both have the same."""
    first, last = show(low), show(high)
    figure, _, unit = first.rpartition(" ")
    if figure and " " not in figure and last.endswith(f" {unit}") and last.count(" ") == 1:
        first = figure
    return f"{first} – {last}"


def plural(count: int, noun: str) -> str:
    """`1 part`, `3 parts`, `2 entries`."""
    many = f"{noun[:-1]}ies" if noun.endswith("y") and noun[-2:-1] not in "aeiou" else f"{noun}s"
    return f"{count:,} {noun if count == 1 else many}"


def _places(size: float) -> int:
    return 2 if size < 10 else 1 if size < 100 else 0


def tier_units(name: str) -> int:
    """The units in a tier's name, as 20 in u20; 0 where the name tells none."""
    digits = name.removeprefix("u")
    return int(digits) if digits.isdigit() else 0
