"""What one column holds, judged from sampled values.

A type is taken only where every value comes back out of it as it was written; where a few values
do not fit, a wider type that takes them is preferred to one that refuses them.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

from splarn.core.inference.misfits import ENOUGH, TOLERANCE, misses, spoiled
from splarn.core.inference.moments import guess_moment
from splarn.core.inference.numerals import guess_number
from splarn.core.layout.fields import Field
from splarn.core.reading.notations import seconds_of
from splarn.core.units import plural

# Words that may stand for no value, as they are written.
NULL_WORDS = (
    "NULL", "null", "Null", "\\N", "NA", "N/A", "n/a", "na", "#N/A", "NaN", "nan", "None", "none",
    "nil", "-", "--", ".", "..", "?",
)  # fmt: skip
KEY_ROWS = 500

_BOOLEAN = re.compile(r"true|false|TRUE|FALSE|True|False")
_UUID = re.compile(r"[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}")
# Pairs of words that people write for true and false.
_WORDS = tuple(
    pair
    for yes, no in (
        ("yes", "no"), ("y", "n"), ("t", "f"), ("on", "off"), ("ja", "nein"), ("oui", "non"),
        ("sí", "no"), ("si", "no"), ("sim", "não"), ("ja", "nee"), ("ja", "nej"), ("tak", "nie"),
        ("ano", "ne"), ("evet", "hayır"), ("kyllä", "ei"), ("j", "n"), ("да", "нет"),
    )
    for pair in ((yes, no), (yes.title(), no.title()), (yes.upper(), no.upper()))
)  # fmt: skip


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
    """A field and what remains in doubt about it."""

    field: Field
    notes: tuple[str, ...] = ()


def guess_field(name: str, values: Sequence[str], whole: bool = False) -> FieldGuess:
    """Judges a column by its values; `whole` says that they are all that there are."""
    filled = [value.strip() for value in values if value.strip()]
    words = Counter(value for value in filled if value in NULL_WORDS)
    telling = [value for value in filled if value not in NULL_WORDS]
    if not telling:
        said = "no value in the sample" if not words else f"only {', '.join(words)} in the sample"
        return FieldGuess(Field(name), (f"{name}: {said}; taken as text",) if values else ())
    guess = _held(_typed(name, telling, whole), telling)
    if guess.field.is_free_text:
        return _as_text(guess, values, words)
    field, notes = guess.field, guess.notes
    if words:
        field = replace(field, null_markers=("", *words))
        shown = " and ".join(f"{word!r} ({count:,})" for word, count in words.most_common(3))
        notes = (*notes, f"{name}: {shown} of {len(values):,} sampled rows read as no value")
    empty = len(values) - len(filled)
    key = _is_key(field, telling)
    if empty and not key:
        share = empty / len(values)
        notes = (
            *notes,
            f"{name}: empty in {share:.1%} of the sampled rows; read as no value"
            f"{', not as zero' if field.type in ('integer', 'number') else ''}",
        )
    if key and not words and empty <= len(values) * TOLERANCE:
        field = replace(field, required=True)
        often = f"empty in only {empty} of {plural(len(values), 'row')}" if empty else "never empty"
        notes = (*notes, f"{name}: unique and {often} in the sample; taken as required")
    return FieldGuess(field, notes)


def _held(guess: FieldGuess, telling: list[str]) -> FieldGuess:
    """The guess, unless reading by it would refuse values that it was guessed from."""
    import pyarrow as pa

    from splarn.core.reading.convert import convert_text

    field = guess.field
    if field.is_free_text:
        return guess
    _, misfit = convert_text(pa.array(telling, pa.string()), field)
    refused = int(misfit.sum())
    if refused <= (len(telling) * TOLERANCE if len(telling) >= ENOUGH else 0):
        return guess
    example = telling[int(misfit.argmax())]
    note = (
        f"{field.name}: looks like {field.describe()}, yet {refused:,} of "
        f"{plural(len(telling), 'value')} "
        f"cannot be read so (such as {example[:40]!r}); kept as text"
    )
    return FieldGuess(Field(field.name), (note,))


def _as_text(guess: FieldGuess, values: Sequence[str], words: Counter[str]) -> FieldGuess:
    notes = guess.notes
    if words:
        name = guess.field.name
        shown = ", ".join(repr(word) for word, _ in words.most_common(3))
        notes = (
            *notes,
            f"{name}: {shown} in {words.total():,} of {len(values):,} sampled rows kept as text; "
            "name it among the field's missingValues where it means no value",
        )
    return FieldGuess(guess.field, notes)


def _is_key(field: Field, telling: list[str]) -> bool:
    return (
        field.type == "integer"
        and field.is_plain
        and len(telling) >= KEY_ROWS
        and len(set(telling)) == len(telling)
    )


def _boolean_words(name: str, telling: list[str]) -> Field | None:
    """A boolean where both words of a pair occur and, but for spoilage, nothing else."""
    distinct = set(telling)
    for yes, no in _WORDS:
        if {yes, no} <= distinct and misses(telling, {yes, no}.__contains__) is not None:
            return Field(name, "boolean", true_values=(yes,), false_values=(no,))
    return None


def _is_json(value: str, kind: type) -> bool:
    try:
        return isinstance(json.loads(value), kind)
    except (ValueError, RecursionError):
        return False


def _typed(name: str, telling: list[str], whole: bool) -> FieldGuess:
    total = len(telling)
    missed = misses(telling, _BOOLEAN.fullmatch)
    if missed is not None:
        return FieldGuess(Field(name, "boolean"), spoiled(name, "boolean", missed, total))
    number = guess_number(name, telling, whole)
    if number is not None:
        return FieldGuess(*number)
    moment = guess_moment(name, telling)
    if moment is not None:
        return FieldGuess(*moment)
    if telling[0][:1] in ("{", "["):
        for word, of in (("object", dict), ("array", list)):
            missed = misses(telling, partial(_is_json, kind=of))
            if missed is not None:
                return FieldGuess(Field(name, word), spoiled(name, f"JSON {word}", missed, total))
    missed = misses(telling, _UUID.fullmatch)
    if missed is not None:
        return FieldGuess(Field(name, format="uuid"), spoiled(name, "UUID", missed, total))
    words = _boolean_words(name, telling)
    if words is not None:
        missed = misses(telling, {*words.true_values, *words.false_values}.__contains__)
        said = (
            f"{name}: {words.true_values[0]} and {words.false_values[0]} are read as true and false"
        )
        return FieldGuess(words, (said, *spoiled(name, "boolean", missed or [], total)))
    if all(seconds_of(value) is not None for value in telling):
        note = (
            f"{name}: lengths of time (such as {telling[0][:24]!r}); kept as text, unless the type "
            "number with the format duration is to read them as seconds"
        )
        return FieldGuess(Field(name), (note,))
    return FieldGuess(Field(name))
