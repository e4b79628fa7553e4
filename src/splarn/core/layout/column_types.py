"""What one column holds, judged from sampled values."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial

from splarn.core.layout.fields import Field

NULL_WORDS = ("NULL", "null", "\\N", "NA", "N/A", "n/a", "-")
# A few spoiled values must not turn a number column into text.
TOLERANCE = 0.01
ENOUGH = 100
KEY_ROWS = 500

_INTEGER = re.compile(r"-?(?:0|[1-9][0-9]{0,17})")
_PADDED = re.compile(r"-?0[0-9]+")
_DECIMAL = re.compile(r"-?[0-9]{1,24}(?:\.[0-9]{1,12})?")
_FLOAT = re.compile(r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?")
_BOOLEAN = re.compile(r"true|false|TRUE|FALSE|True|False")
_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_TIME = re.compile(r"[0-2][0-9]:[0-5][0-9](?::[0-5][0-9](?:\.[0-9]{1,6})?)?")
_STAMP = re.compile(
    r"[0-9]{4}-[0-9]{2}-[0-9]{2}([ T])[0-2][0-9]:[0-5][0-9](?::[0-5][0-9](?:\.[0-9]{1,6})?)?"
)
_DAY_PATTERNS = ("%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%d-%m-%Y", "%Y/%m/%d")
_CLOCKS = ("", " %H:%M:%S", " %H:%M")
_DAY_LIKE = re.compile(r"[0-9]{1,4}[/.\-][0-9]{1,2}[/.\-][0-9]{1,4}(?: [0-9:]{4,8})?")


_UUID = re.compile(r"[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}")
# Pairs of words that people write for true and false.
_WORDS = (
    ("yes", "no"), ("Yes", "No"), ("YES", "NO"), ("Y", "N"), ("y", "n"),
    ("T", "F"), ("t", "f"), ("on", "off"), ("ON", "OFF"),
)  # fmt: skip
# Later values may be this many times as large as the sampled ones.
ROOM = 100


@dataclass(frozen=True)
class Seen:
    """What a sample held of a field: rows, empty ones, different values, the longest in characters.

    `example` is the commonest value.
    """

    name: str
    rows: int
    empty: int
    distinct: int
    longest: int
    example: str

    @property
    def is_unique(self) -> bool:
        """Whether no value came twice, among enough to mean something."""
        return self.rows - self.empty >= 20 and self.distinct == self.rows - self.empty


def look_at(name: str, values: Sequence[str | None]) -> Seen:
    """What the values of a field are like."""
    filled = Counter(value for value in values if value is not None)
    example = filled.most_common(1)[0][0] if filled else ""
    longest = max(map(len, filled), default=0)
    return Seen(name, len(values), len(values) - filled.total(), len(filled), longest, example)


@dataclass(frozen=True)
class FieldGuess:
    """A field, what remains in doubt about it, and the null words seen in it."""

    field: Field
    notes: tuple[str, ...] = ()
    null_words: frozenset[str] = frozenset()


def guess_field(name: str, values: Sequence[str]) -> FieldGuess:
    """Judges a column by its values. A type may be missed by one value in a hundred."""
    filled = [value.strip() for value in values if value.strip()]
    words = frozenset(value for value in filled if value in NULL_WORDS)
    telling = [value for value in filled if value not in NULL_WORDS]
    if not telling:
        note = f"{name}: no value in the sample; taken as text"
        return FieldGuess(Field(name), (note,) if values else ())
    guess = _typed(name, telling)
    if guess is None:
        return _text(name, values, telling)
    field, notes = guess
    empty = len(values) - len(filled)
    if field.type == "integer":
        field = replace(field, bits=64 if _is_key(field, telling) else _bits(telling))
    if empty and not _is_key(field, telling):
        share = empty / len(values)
        notes = (
            *notes,
            f"{name}: empty in {share:.1%} of the sampled rows; read as no value"
            f"{', not as zero' if field.type in ('integer', 'number') else ''}",
        )
    if not words and _is_key(field, telling) and empty <= len(values) * TOLERANCE:
        field = Field(field.name, field.type, required=True)
        often = f"empty in only {empty} of {len(values):,} rows" if empty else "never empty"
        notes = (*notes, f"{name}: unique and {often} in the sample; taken as required")
    return FieldGuess(field, notes, words)


def _is_key(field: Field, telling: list[str]) -> bool:
    return (
        field.type == "integer" and len(telling) >= KEY_ROWS and len(set(telling)) == len(telling)
    )


def _misses(telling: list[str], fits: Callable[[str], object]) -> list[str] | None:
    """The values that do not fit, or None when they are too many to be mere spoilage."""
    allowed = len(telling) * TOLERANCE if len(telling) >= ENOUGH else 0
    missed: list[str] = []
    for value in telling:
        if not fits(value):
            missed.append(value)
            if len(missed) > allowed:
                return None
    return missed


def _spoiled(name: str, kind: str, missed: list[str], total: int) -> tuple[str, ...]:
    if not missed:
        return ()
    return (
        f"{name}: {len(missed)} of {total:,} sampled values {'is' if len(missed) == 1 else 'are'} "
        f"no {kind} (such as {missed[0][:40]!r}); such rows will be refused",
    )


def _bits(telling: list[str]) -> int:
    largest = max((abs(int(v)) for v in telling if _INTEGER.fullmatch(v)), default=0) * ROOM
    return 16 if largest < 1 << 15 else 32 if largest < 1 << 31 else 64


def _boolean_words(name: str, telling: list[str]) -> Field | None:
    """A boolean where both words of a pair occur and, but for spoilage, nothing else."""
    distinct = set(telling)
    for yes, no in _WORDS:
        if {yes, no} <= distinct and _misses(telling, {yes, no}.__contains__) is not None:
            return Field(name, "boolean", true_values=(yes,), false_values=(no,))
    return None


def _is_json(value: str, kind: type) -> bool:
    try:
        return isinstance(json.loads(value), kind)
    except ValueError:
        return False


def _typed(name: str, telling: list[str]) -> tuple[Field, tuple[str, ...]] | None:
    total = len(telling)
    for kind, pattern in (("boolean", _BOOLEAN), ("integer", _INTEGER), ("date", _DATE)):
        missed = _misses(telling, pattern.fullmatch)
        if missed is not None:
            return Field(name, kind), _spoiled(name, kind, missed, total)
    if any(_PADDED.fullmatch(value) for value in telling):
        return None
    missed = _misses(telling, _DECIMAL.fullmatch)
    if missed is not None:
        return _decimal(name, telling), _spoiled(name, "number", missed, total)
    missed = _misses(telling, _FLOAT.fullmatch)
    if missed is not None:
        return Field(name, "number"), _spoiled(name, "number", missed, total)
    missed = _misses(telling, _STAMP.fullmatch)
    if missed is not None:
        matches = (_STAMP.fullmatch(value) for value in telling)
        spaced = any(match[1] == " " for match in matches if match)
        form = "%Y-%m-%d %H:%M:%S" if spaced else "default"
        return Field(name, "datetime", form), _spoiled(name, "datetime", missed, total)
    missed = _misses(telling, _TIME.fullmatch)
    if missed is not None:
        return Field(name, "time"), _spoiled(name, "time", missed, total)
    if telling[0][:1] in ("{", "["):
        for word, of in (("object", dict), ("array", list)):
            missed = _misses(telling, partial(_is_json, kind=of))
            if missed is not None:
                return Field(name, word), _spoiled(name, f"JSON {word}", missed, total)
    missed = _misses(telling, _UUID.fullmatch)
    if missed is not None:
        return Field(name, format="uuid"), _spoiled(name, "UUID", missed, total)
    words = _boolean_words(name, telling)
    if words is not None:
        missed = _misses(telling, {*words.true_values, *words.false_values}.__contains__)
        return words, _spoiled(name, "boolean", missed or [], total)
    return _day_pattern(name, telling)


def _decimal(name: str, telling: list[str]) -> Field:
    whole = scale = 0
    for value in telling:
        if _DECIMAL.fullmatch(value):
            before, _, after = value.lstrip("-").partition(".")
            whole, scale = max(whole, len(before)), max(scale, len(after))
    # Two digits of room: the largest value is seldom in the sample.
    return Field(name, "number", precision=min(whole + 2 + scale, 38), scale=scale)


def _day_pattern(name: str, telling: list[str]) -> tuple[Field, tuple[str, ...]] | None:
    if _misses(telling[:200], _DAY_LIKE.fullmatch) is None:
        return None
    fitting: list[tuple[str, list[str]]] = []
    for day in _DAY_PATTERNS:
        for clock in _CLOCKS:
            missed = _misses(telling, lambda value, form=day + clock: _fits(value, form))  # type: ignore[misc]
            if missed is not None:
                fitting.append((day + clock, missed))
    if not fitting:
        return None
    form, missed = min(fitting, key=lambda entry: len(entry[1]))
    kind = "datetime" if "%H" in form else "date"
    notes = _spoiled(name, kind, missed, len(telling))
    others = [other for other, theirs in fitting if other != form and len(theirs) == len(missed)]
    if others:
        notes = (
            *notes,
            f"{name}: every sampled value fits both {form} and {others[0]}; taken as {form}, "
            "so check which comes first, the day or the month",
        )
    return Field(name, kind, form), notes


def _fits(value: str, form: str) -> bool:
    try:
        datetime.strptime(value, form)
    except ValueError:
        return False
    return True


def _text(name: str, values: Sequence[str], telling: list[str]) -> FieldGuess:
    padded = [value for value in telling if _PADDED.fullmatch(value)]
    if padded and _misses(telling, re.compile(r"-?[0-9]+").fullmatch) is not None:
        note = f"{name}: digits with leading zeros (such as {padded[0]!r}); kept as text"
        return FieldGuess(Field(name), (note,))
    return FieldGuess(Field(name))
