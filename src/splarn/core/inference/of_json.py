"""The layout of JSON lines, guessed from sampled objects."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace

from splarn.core.errors import RequestError
from splarn.core.inference.column_types import Seen, guess_field, look_at
from splarn.core.inference.samples import SampledText, decode
from splarn.core.layout.dialect import LINES
from splarn.core.layout.fields import Field, Layout
from splarn.core.reading.json_lines import as_text, flattened, kind_of, read_object

# A larger value is no record that anybody would load.
LONGEST_VALUE = 4 << 20
_NUMBERS = ("integer", "number", "boolean")


def infer_json(
    samples: Sequence[SampledText], name: str, flatten: bool = False
) -> tuple[
    Layout, tuple[str, ...], tuple[Seen, ...], tuple[list[str | None], ...], tuple[str, ...]
]:
    """Layout, doubts, what each field held, the values of each, and where each record is.

    With `flatten`, nested objects become fields of their own, named by points.
    Raises RequestError when no line is a JSON object.
    """
    values: dict[str, list[str | None]] = {}
    kinds: dict[str, Counter[str]] = {}
    rows = broken = long = 0
    places: list[str] = []
    for sample in samples:
        for number, line in enumerate(decode(sample, "utf-8").split("\n"), 1):
            if not line.strip():
                continue
            if len(line) > LONGEST_VALUE:
                long += 1
                continue
            try:
                record = read_object(line)
                if flatten and isinstance(record, dict):
                    record = flattened(record)
            except (ValueError, RecursionError):
                record = None
            if not isinstance(record, dict):
                broken += 1
                continue
            for key, value in record.items():
                column = values.setdefault(key, [])
                column += [None] * (rows - len(column))
                column.append(as_text(value))
                kinds.setdefault(key, Counter())[kind_of(value)] += 1
            rows += 1
            known = sample.is_head and "+json" not in sample.source.codec
            places.append(f"{sample.path.name}, line {number}" if known else sample.path.name)
    if not values and long:
        raise RequestError(
            f"{samples[0].path} holds JSON values of more than {LONGEST_VALUE >> 20} MiB each, too "
            "large to be records: bring its records one a line."
        )
    if not values:
        raise RequestError(
            f"{samples[0].path} holds no JSON object on any sampled line: is it JSON lines?"
        )
    notes = [f"{broken:,} sampled lines are no JSON objects; such rows will be refused"] * bool(
        broken
    )
    fields, seen = [], []
    for key, column in values.items():
        column += [None] * (rows - len(column))
        field, doubts = _field(key, column, kinds[key], all(one.whole for one in samples))
        fields.append(field)
        seen.append(look_at(key, column))
        notes += doubts
    layout = Layout(name, LINES, tuple(fields), "jsonl")
    return layout, tuple(notes), tuple(seen), tuple(values.values()), tuple(places)


def _field(
    key: str, column: list[str | None], kinds: Counter[str], whole: bool
) -> tuple[Field, list[str]]:
    del kinds["null"]
    if not kinds:
        return Field(key), [f"{key}: never filled in the sample; taken as text"]
    usual, count = kinds.most_common(1)[0]
    others = kinds.total() - count
    doubts = []
    if set(kinds) == {"integer", "number"}:
        usual, others = "number", 0
    if others > kinds.total() * 0.01:
        words = ", ".join(f"{number:,} {kind}" for kind, number in kinds.most_common())
        nested = "object" in kinds or "array" in kinds
        if not nested and "string" in kinds:
            return Field(key), [f"{key}: values of several kinds ({words}); taken as text"]
        return Field(key, "any"), [
            f"{key}: values of several kinds ({words}); text is kept as it is, others as JSON text"
        ]
    if others:
        doubts.append(f"{key}: {others} sampled values are no {usual}; such rows may be refused")
    if usual in ("object", "array"):
        return Field(key, usual), doubts
    guess = guess_field(key, ["" if value is None else value for value in column], whole)
    field = guess.field
    if usual == "string" and field.null_markers is not None:
        # JSON has a null of its own.
        guess = replace(guess, field=Field(key), notes=())
        field = guess.field
    if usual == "string" and field.type in _NUMBERS:
        # What the writer put in quotes is no number to him.
        return Field(key), doubts
    if usual != "string" and field.type == "string":
        field = Field(key, "number" if usual == "number" else usual)
    if field.type == "boolean":
        field = replace(field, true_values=(), false_values=())
    return field, [*doubts, *guess.notes]
