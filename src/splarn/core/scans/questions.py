"""Questions that a table is going to be asked: columns, conditions, and how often.

A question is words in any order, as `columns(lock_code toll) where(entered 2031-04)
where(lock_code 2%) monthly(900)`, with a name before a colon if one is wanted.
"""

from __future__ import annotations

import datetime
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import Decimal, InvalidOperation
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.layout import Field
from splarn.core.work.words import nearest

WORDS = ("columns", "where", "monthly")
EXAMPLE = "columns(lock_code toll) where(entered 2031-04) where(lock_code 2%) monthly(900)"
_WORD = re.compile(r"\s*([A-Za-z]\w*)\s*\(((?:\"[^\"]*\"|[^()\"])*)\)\s*[,;]?\s*")
_NAME = re.compile(r"\s*([^():\"]+):(?=\s*[A-Za-z]\w*\s*\()")
_PIECE = re.compile(r"\"([^\"]*)\"|([^\s,\"]+)")
# What stands for a date or time that is cut off behind its year, month, day, hour or minute.
_MOMENT = re.compile(
    r"(\d{4})(?:-(\d{1,2})(?:-(\d{1,2})(?:[T ](\d{1,2})(?::(\d{2})(?::(\d{2}))?)?)?)?)?"
)


@dataclass(frozen=True)
class Condition:
    """What rows must have in a column: one value or those between two, both included.

    `text` is as people wrote it. Where only a `share` of the rows is known, it stands for any
    values that so many have, next to one another in the column's order.
    """

    column: str
    text: str
    share: float | None = None


@dataclass(frozen=True)
class Question:
    """What is asked `monthly` times a month: which columns (of none all), of what rows."""

    columns: tuple[str, ...] = ()
    conditions: tuple[Condition, ...] = ()
    monthly: float = 1.0
    name: str = ""

    def text(self) -> str:
        """As people write it."""
        words = [f"columns({' '.join(map(_quoted, self.columns))})"] if self.columns else []
        words += [f"where({_quoted(one.column)} {one.text})" for one in self.conditions]
        if self.monthly != 1:
            words.append(f"monthly({self.monthly:g})")
        return (f"{self.name}: " if self.name else "") + (" ".join(words) or "columns()")


@dataclass(frozen=True)
class Between:
    """Values of a column from `low` to `high`, both included; None is no end.

    Dates are days since 1970, moments microseconds, times microseconds of the day.
    """

    column: str
    low: float | str | None
    high: float | str | None


def read_question(text: str) -> Question:
    """What a person wrote. Raises RequestError for what is no question."""
    made, at = Question(), 0
    if named := _NAME.match(text):
        made, at = replace(made, name=named[1].strip()), named.end()
    if not text[at:].strip():
        raise RequestError(f"The question {text!r} asks nothing: write one like {EXAMPLE}.")
    while at < len(text.rstrip()):
        word = _WORD.match(text, at)
        if word is None:
            raise RequestError(
                f"The question {text!r} cannot be read from {text[at:].strip()!r} on: write words "
                f"such as {EXAMPLE}."
            )
        made, at = _with(made, word[1].lower(), word[2].strip()), word.end()
    if len(set(made.columns)) < len(made.columns):
        raise RequestError(f"The question {text!r} names a column twice: leave one out.")
    return made


def _with(made: Question, word: str, inside: str) -> Question:
    if word == "columns":
        return replace(made, columns=tuple(one or two for one, two in _PIECE.findall(inside)))
    if word == "where":
        return replace(made, conditions=(*made.conditions, _condition(inside)))
    if word == "monthly":
        return replace(made, monthly=_number(inside, f"monthly({inside})", "monthly(900)"))
    raise RequestError(
        f"{word!r} is no word of a question{nearest(word, WORDS)}: use {', '.join(WORDS)}."
    )


def _condition(inside: str) -> Condition:
    first = _PIECE.match(inside)
    value = "" if first is None else inside[first.end() :].strip()
    if first is None or not value:
        raise RequestError(
            f"where({inside}) wants a column and a value, as where(entered 2031-04), "
            "where(toll 10..20) or where(lock_code 2%)."
        )
    column = first[1] or first[2]
    if not value.endswith("%"):
        return Condition(column, value)
    share = _number(value[:-1], f"where({inside})", f"where({_quoted(column)} 2%)") / 100
    if share > 1:
        raise RequestError(f"where({inside}): a share of rows is more than 0 and at most 100 %.")
    return Condition(column, value, share)


def _number(text: str, where: str, example: str) -> float:
    try:
        found = float(text.replace("_", "").strip())
    except ValueError:
        found = 0.0
    if not 0 < found < math.inf:
        raise RequestError(f"{where} wants a number above 0, as {example}.")
    return found


def _quoted(name: str) -> str:
    return name if re.fullmatch(r"[^\s,\"]+", name) else f'"{name}"'


def check_question(question: Question, fields: Sequence[Field]) -> None:
    """Raises RequestError where it asks for what is not there or can have no such value."""
    known = {field.name: field for field in fields}
    for name in (*question.columns, *(one.column for one in question.conditions)):
        if name not in known:
            raise RequestError(
                f"The question {question.text()!r} asks for {name}, which is no field"
                f"{nearest(name, list(known))}: there are {', '.join(known)}."
            )
    for one in question.conditions:
        if one.share is None:
            between(one, known[one.column])


def between(condition: Condition, field: Field) -> Between:
    """The values that a condition names. Raises RequestError where the field has no such ones."""
    low, dots, high = condition.text.partition("..")
    ends = (low.strip(), high.strip()) if dots else (low.strip(), low.strip())
    if not any(ends):
        raise RequestError(f"where({condition.column} ..) leaves all in: leave it out.")
    try:
        first = None if not ends[0] else _value(ends[0].strip('"'), field, False)
        last = None if not ends[1] else _value(ends[1].strip('"'), field, True)
    except (ValueError, InvalidOperation, OverflowError):
        raise RequestError(
            f"where({condition.column} {condition.text}): {field.name} is a {field.type}, which "
            f"has no such value; write it like {_example(field)}."
        ) from None
    if first is not None and last is not None and last < first:  # type: ignore[operator]
        raise RequestError(
            f"where({condition.column} {condition.text}) ends before it begins: turn it round."
        )
    return Between(field.name, first, last)


def _example(field: Field) -> str:
    values = {"date": "2031-04 or 2031-04-01..2031-04-15", "datetime": "2031-04 or 2031-04-01 08",
              "time": "08:30", "integer": "17 or 10..20", "number": "1.5 or 10..20",
              "boolean": "true"}  # fmt: skip
    return f"where({field.name} {values.get(field.type, 'LK03')})"


def _value(text: str, field: Field, last: bool) -> float | str:
    """One end; of a moment that is cut off the first or the last that it can be."""
    if field.type in ("date", "datetime"):
        return _moment(text, field.type == "date", last)
    if field.type == "time":
        found = datetime.time.fromisoformat(text if ":" in text else f"{text}:00")
        micros = ((found.hour * 60 + found.minute) * 60 + found.second) * 10**6 + found.microsecond
        return float(micros)
    if field.type == "boolean":
        return float({"true": 1, "false": 0, "1": 1, "0": 0}[_known_truth(text)])
    if field.type in ("integer", "number"):
        return float(Decimal(text.replace("_", "")))
    return text


def _known_truth(text: str) -> str:
    if text.lower() not in ("true", "false", "1", "0"):
        raise ValueError(text)
    return text.lower()


def _moment(text: str, day: bool, last: bool) -> float:
    found = _MOMENT.fullmatch(text.rstrip("Z"))
    if found is None:
        raise ValueError(text)
    given = [int(one) for one in found.groups() if one is not None]
    first = datetime.datetime(*(given + [1, 1][len(given) - 1 :] if len(given) < 3 else given))  # type: ignore[arg-type]
    steps: tuple[Any, ...] = (None, None, 86_400, 3600, 60, 1)
    end = first
    if last:
        step = steps[len(given) - 1]
        if step is not None:
            end = first + datetime.timedelta(seconds=step)
        elif len(given) == 2:
            end = (first.replace(day=28) + datetime.timedelta(days=4)).replace(day=1)
        else:
            end = first.replace(year=first.year + 1)
    epoch = datetime.datetime(1970, 1, 1)
    if day:
        return float((end - epoch).days - (1 if last and end > first else 0))
    micros = (end - epoch) // datetime.timedelta(microseconds=1)
    return float(micros - (1 if last and end > first else 0))
