"""How numbers and lengths of time may be written, as inference guesses it and reading takes it."""

from __future__ import annotations

import re
from decimal import Decimal, InvalidOperation

# Decimal digits that a double keeps whatever they are.
DOUBLE_DIGITS = 15


SIGNS = r"[$€£¥₹]|USD|EUR|GBP|CHF"


def comes_back(text: str) -> bool:
    """Whether a double, shown with as many digits as it needs, is the number that was written."""
    try:
        value = float(text)
        if value in (float("inf"), float("-inf")):
            return "n" in text.lower()
        return Decimal(repr(value)) == Decimal(text)
    except (ValueError, InvalidOperation):
        return False


def decorated_pattern(
    decimal: str, group: str, bare: bool, brackets: bool, sign: str | None = None
) -> re.Pattern[str]:
    """What numbers with such marks look like.

    Where they are not `bare`, a sign may stand before or behind them, only this `sign` where one is
    named. A number without its sign is of the same currency, but no percentage.
    """
    d = re.escape(decimal)
    whole = "[0-9]+"
    if group:
        g = re.escape(group)
        whole = rf"(?:[0-9]{{1,3}}(?:{g}[0-9]{{3}})+|[0-9]+)"
    number = rf"(?:{whole}(?:{d}[0-9]*)?|{d}[0-9]+)"
    minus = "[-+−]?"
    if sign == "%":
        number = rf"{number}\s?%"
    elif not bare:
        signs = re.escape(sign) if sign else f"%|{SIGNS}"
        number = rf"(?:(?:{signs})\s?{minus}{number}|{number}\s?(?:{signs})|{number})"
    shown = rf"{minus}{number}"
    return re.compile(rf"(?:{shown}|\({number}\))" if brackets else shown)


def undecorated(text: str, decimal: str, group: str) -> str:
    """The number that a decorated one stands for, as plain text."""
    below = text.startswith("(")
    text = re.sub(rf"{SIGNS}|[%()\s]", "", text if group.strip() else text.replace(group, ""))
    text = text.replace("−", "-")
    if group:
        text = text.replace(group, "")
    text = text.replace(decimal, ".")
    return f"-{text}" if below else text


_CLOCKED = re.compile(r"([+-]?)(?:([0-9]+):)?([0-9]{1,4}):([0-5][0-9](?:\.[0-9]{1,6})?)")


_SPELLED = re.compile(
    r"([+-]?)P(?:([0-9]+)D)?(?:T(?:([0-9]+)H)?(?:([0-9]+)M)?(?:([0-9]+(?:\.[0-9]{1,6})?)S)?)?"
)


def seconds_of(text: str) -> Decimal | None:
    """The seconds of 26:15:00, 15:00 or PT1H30M (ISO 8601, without years and months), or None."""
    match = _CLOCKED.fullmatch(text)
    if match:
        sign, hours, minutes, seconds = match.groups()
        days = "0"
        if hours is not None and int(minutes) > 59:
            return None
    else:
        match = _SPELLED.fullmatch(text)
        if match is None or text[-1:] in "PT":
            return None
        sign, days, hours, minutes, seconds = match.groups()
    total = int(days or 0) * 86400 + int(hours or 0) * 3600 + int(minutes or 0) * 60
    length = total + Decimal(seconds or 0)
    return -length if sign == "-" else length
