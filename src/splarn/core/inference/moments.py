"""Dates, times and moments as people write them, and the pattern that reads them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import date, datetime, time
from itertools import pairwise

from splarn.core.layout.fields import INSTANT, Field

_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_TIME = re.compile(r"[0-2]?[0-9]:[0-5][0-9](?::[0-5][0-9](?:\.[0-9]{1,6})?)?")
_STAMP = re.compile(
    r"([0-9]{4}-[0-9]{2}-[0-9]{2})([ T])([0-2][0-9]:[0-5][0-9](?::[0-5][0-9](?:\.([0-9]{1,9}))?)?)"
    r"(Z|[+-][0-9]{2}:?[0-9]{2})?"
)
_DAYS = (
    "%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%d-%m-%Y", "%m-%d-%Y", "%Y/%m/%d", "%Y.%m.%d",
    "%d/%m/%y", "%m/%d/%y", "%d.%m.%y", "%y/%m/%d", "%d-%b-%Y", "%d %b %Y", "%d %B %Y",
    "%b %d, %Y", "%B %d, %Y", "%b %d %Y", "%d-%b-%y", "%Y%m%d",
)  # fmt: skip
_CLOCKS = ("", " %H:%M:%S", " %H:%M", "T%H:%M:%S", " %I:%M:%S %p", " %I:%M %p", " %I:%M%p")
_CLOCK_ALONE = ("%I:%M:%S %p", "%I:%M %p", "%I:%M%p")
_LIKE = re.compile(
    r"(?:[0-9]{1,4}[/.\-][0-9]{1,2}[/.\-][0-9]{1,4}|[0-9]{1,2}[ \-][A-Za-z]{3,9}[ \-][0-9]{2,4}"
    r"|[A-Za-z]{3,9} [0-9]{1,2},? [0-9]{4}|[0-9]{8})?[T ]?"
    r"(?:[0-9]{1,2}:[0-9]{2}(?::[0-9]{2})?(?: ?[AaPp][Mm])?)?"
)

Found = tuple[Field, tuple[str, ...]]


def guess_moment(name: str, telling: Sequence[str]) -> Found | None:
    """A date, time or datetime field that every value fits, or None."""
    from splarn.core.inference.misfits import misses, spoiled

    total = len(telling)
    missed = misses(telling, _is_date)
    if missed is not None and not any(_stamp(value) for value in missed):
        return Field(name, "date"), spoiled(name, "date", missed, total)
    missed = misses(telling, lambda value: _stamp(value) or _is_date(value))
    if missed is not None and any(map(_stamp, telling)):
        return _datetime(name, telling, spoiled(name, "datetime", missed, total))
    missed = misses(telling, _is_time)
    if missed is not None:
        return Field(name, "time"), spoiled(name, "time", missed, total)
    return _by_pattern(name, telling)


def _is_date(value: str) -> bool:
    if not _DATE.fullmatch(value):
        return False
    try:
        date.fromisoformat(value)
    except ValueError:
        return False
    return True


def _stamp(value: str) -> re.Match[str] | None:
    match = _STAMP.fullmatch(value)
    if match is None or not _is_date(match[1]) or not _is_time(match[3][:15]):
        return None
    return match


def _is_time(value: str) -> bool:
    if not _TIME.fullmatch(value):
        return False
    try:
        time.fromisoformat(value if value[1] != ":" else f"0{value}")
    except ValueError:
        return False
    return True


def _datetime(name: str, telling: Sequence[str], notes: tuple[str, ...]) -> Found | None:
    matches = [match for value in telling if (match := _stamp(value))]
    zoned = sum(match[5] is not None for match in matches)
    if any(match[4] and len(match[4]) > 6 and match[4][6:].strip("0") for match in matches):
        return Field(name), (
            f"{name}: moments with more than six decimals of a second, which databases do not "
            "keep; kept as text",
        )
    if zoned and zoned < len(telling):
        return Field(name), (
            f"{name}: {zoned:,} of {len(telling):,} sampled moments name a zone and the others do "
            "not; kept as text",
        )
    if len(matches) < len(telling):
        dates = [value for value in telling if _is_date(value)]
        if dates:
            notes = (*notes, f"{name}: dates alone (such as {dates[0]!r}) are read as midnight")
    if zoned:
        return Field(name, "datetime", INSTANT), (
            *notes,
            f"{name}: moments with a zone (such as {matches[0][0]!r}) are stored in UTC",
        )
    spaced = any(match[2] == " " for match in matches)
    return Field(name, "datetime", "%Y-%m-%d %H:%M:%S" if spaced else "default"), notes


def _by_pattern(name: str, telling: Sequence[str]) -> Found | None:
    from splarn.core.inference.misfits import misses, spoiled

    if misses(telling[:200], _LIKE.fullmatch) is None:
        return None
    fitting: list[tuple[str, list[str]]] = []
    forms = [day + clock for day in _DAYS for clock in _CLOCKS] + list(_CLOCK_ALONE)
    for form in forms:
        # Eight digits are a number unless the name says what they are.
        if form.startswith("%Y%m%d") and not re.search(
            "date|datum|day|tag|fecha|jour", name.lower()
        ):
            continue
        if not _fits(telling[0], form) and not _fits(telling[-1], form):
            continue
        missed = misses(telling, lambda value, form=form: _fits(value, form))  # type: ignore[misc]
        if missed is not None:
            fitting.append((form, missed))
    if not fitting:
        return None
    form, missed = min(fitting, key=lambda entry: (len(entry[1]), _unevenness(telling, entry[0])))
    kind = "time" if "%d" not in form else "datetime" if "%H" in form or "%I" in form else "date"
    notes = spoiled(name, kind, missed, len(telling))
    others = [other for other, theirs in fitting if other != form and len(theirs) == len(missed)]
    if others:
        notes = (
            *notes,
            f"{name}: every sampled value fits both {form} and {others[0]}; taken as {form}, "
            "so check which comes first, the day or the month",
        )
    if "%y" in form:
        notes = (
            *notes,
            f"{name}: years of two digits; 69 to 99 are taken as 1969 to 1999, 00 to 68 as 2000 to "
            "2068",
        )
    return Field(name, kind, form), notes


def _unevenness(telling: Sequence[str], form: str) -> float:
    """How little the values look like a series by this pattern: 0 where each step is as the last.

    Of two patterns that both fit, the one that makes a series of them is likelier meant.
    """
    if "%d" not in form:
        return 1.0
    moments = [datetime.strptime(value, form) for value in telling[:60] if _fits(value, form)]
    steps = [(after - before).days for before, after in pairwise(moments)]
    if len(steps) < 5 or min(steps) < 0:
        return 1.0
    return (max(steps) - min(steps)) / (max(steps) + 1)


def settle_day_first(fields: Sequence[Field], columns: Sequence[Sequence[str]]) -> list[Field]:
    """Fields whose order of day and month is open, settled by others that leave no choice."""
    sure = set()
    for field, column in zip(fields, columns, strict=True):
        other = _swapped(field.format)
        if other and not all(_fits(value.strip(), other) for value in column if value.strip()):
            sure.add(field.format[:2])
    if len(sure) != 1:
        return list(fields)
    (first,) = sure
    settled = []
    for field, column in zip(fields, columns, strict=True):
        other = _swapped(field.format)
        if other and field.format[:2] != first and all(
            _fits(value.strip(), other) for value in column if value.strip()
        ):  # fmt: skip
            field = Field(field.name, field.type, other, field.required)
        settled.append(field)
    return settled


def _swapped(form: str) -> str | None:
    match = re.match(r"%([dm])([/.\-])%([dm])\2", form)
    if match is None:
        return None
    return f"%{match[3]}{match[2]}%{match[1]}{match[2]}{form[match.end() :]}"


def _fits(value: str, form: str) -> bool:
    try:
        datetime.strptime(value, form)
    except ValueError:
        return False
    # Python takes a year of two digits where four are asked for, and Arrow does not.
    return "%Y" not in form or re.search(r"[0-9]{4}", value) is not None
