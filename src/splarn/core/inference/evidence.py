"""What speaks for a field's type in a sample, what does not fit it, and what else would."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.layout.fields import Field

SHOWN = 3
# Values that are tried for other types.
TRIED = 5000
_OTHERS = (
    Field("x", "integer"),
    Field("x", "number", precision=38, scale=9),
    Field("x", "number"),
    Field("x", "boolean"),
    Field("x", "date"),
    Field("x", "datetime"),
    Field("x", "time"),
    Field("x", format="uuid"),
)
_WORDS = {"number(38,9)": "exact number", "number": "floating number"}


@dataclass(frozen=True)
class Evidence:
    """The commonest values with their counts, odd ones with where they are, and alternatives.

    Each alternative is a type as people say it, with how many values fit it.
    """

    filled: int
    empty: int
    common: tuple[tuple[str, int], ...]
    odd: tuple[tuple[str, str], ...]
    alternatives: tuple[tuple[str, int], ...]


def evidence_of(field: Field, values: Sequence[str | None], places: Sequence[str]) -> Evidence:
    """The evidence for a field; `values` are None for none, `places` say where each is."""
    held = [(value, at) for at, value in enumerate(values) if value is not None and value != ""]
    filled = [value for value, _ in held]
    fits = {
        other.describe(): _fitting(filled[:TRIED], other)
        for other in _OTHERS
        if other.type != field.type or other.is_uuid != field.is_uuid
    }
    chosen = _fitting(filled[:TRIED], field)
    tried = len(filled[:TRIED])
    # For text, the odd ones are those that keep it from being something else.
    nearest = max(fits.values(), key=sum, default=chosen) if field.is_free_text else chosen
    odd: list[tuple[str, str]] = []
    if tried / 2 < sum(nearest) < tried:
        for (value, at), good in zip(held, nearest, strict=False):
            if not good and value not in [seen for seen, _ in odd]:
                odd.append((value[:60], places[at] if at < len(places) else ""))
            if len(odd) == SHOWN:
                break
    alternatives = [
        (_WORDS.get(kind, kind), round(sum(good) * len(filled) / max(tried, 1)))
        for kind, good in fits.items()
        if any(good)
    ]
    alternatives.sort(key=lambda entry: -entry[1])
    if not field.is_free_text:
        alternatives.append(("string", len(filled)))
    return Evidence(
        len(filled),
        len(values) - len(filled),
        tuple((value[:40], count) for value, count in Counter(filled).most_common(SHOWN)),
        tuple(odd),
        tuple(alternatives[:4]),
    )


def _fitting(values: Sequence[str], field: Field) -> list[bool]:
    import pyarrow as pa

    from splarn.core.reading.convert import convert_text

    if not values:
        return []
    _, misfit = convert_text(pa.array([value.strip() for value in values], pa.string()), field)
    return [not bad for bad in misfit.tolist()]
