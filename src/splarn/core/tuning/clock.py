"""Deadlines as people give them: so long, by a time of the day, or between two of them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, timedelta

from splarn.core.errors import RequestError
from splarn.core.units import parse_duration

_CLOCK = r"(\d{1,2}):(\d{2})"
_BY = re.compile(rf"(?:by\s+)?{_CLOCK}")
_BETWEEN = re.compile(rf"(?:between\s+)?{_CLOCK}\s*(?:and|-|to)\s*{_CLOCK}")


@dataclass(frozen=True)
class Deadline:
    """How long there is, in seconds, and when it ends where that is a time of the day."""

    seconds: float
    ends: datetime | None = None


def parse_deadline(text: str | int | float, now: datetime | None = None) -> Deadline:
    """`45m`, `by 06:00` (the next time it is that late) or `between 01:00 and 05:00`.

    Raises RequestError when the text is none of these, or leaves no time.
    """
    now = now or datetime.now().astimezone()
    said = text.strip().lower() if isinstance(text, str) else ""
    if (window := _BETWEEN.fullmatch(said)) is not None:
        first, last = (_at(now, *window.groups()[place : place + 2]) for place in (0, 2))
        if last == first:
            raise RequestError(f"{text!r} leaves no time: give two times of the day.")
        if last <= first:
            last += timedelta(days=1)
        # One that has begun, also yesterday, else the next one.
        days = next(day for day in (-1, 0, 1) if last + timedelta(days=day) > now)
        first, last = first + timedelta(days=days), last + timedelta(days=days)
        return _left((last - max(first, now)).total_seconds(), last)
    if (by := _BY.fullmatch(said)) is not None:
        ends = _at(now, *by.groups())
        ends += timedelta(days=1) if ends <= now else timedelta()
        return _left((ends - now).total_seconds(), ends)
    try:
        return _left(parse_duration(text), None)
    except RequestError:
        raise RequestError(
            f"{text!r} is no deadline; write it like 45m, 'by 06:00' or 'between 01:00 and 05:00'."
        ) from None


def _left(seconds: float, ends: datetime | None) -> Deadline:
    if seconds <= 0:
        raise RequestError("A deadline must leave some time.")
    return Deadline(seconds, ends)


def _at(now: datetime, hour: str, minute: str) -> datetime:
    if int(hour) > 23 or int(minute) > 59:
        raise RequestError(f"{hour}:{minute} is no time of the day.")
    return now.replace(hour=int(hour), minute=int(minute), second=0, microsecond=0)
