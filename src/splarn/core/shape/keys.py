"""Fields to sort or partition by."""

from __future__ import annotations

from dataclasses import dataclass

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.work.words import nearest

STEPS = ("year", "month", "day")


@dataclass(frozen=True)
class Key:
    """A field to sort or partition by. `step` is a date's year, month or day, or empty."""

    field: str
    step: str = ""
    descending: bool = False


def parse_keys(text: str, layout: Layout, partition: bool) -> tuple[Key, ...]:
    """Reads `lock_code,entered:month` or, for sorting, `entered,toll:desc`.

    Raises RequestError for a field that is not there or a step that its type does not have.
    """
    fields = {field.name: field for field in layout.fields}
    keys: list[Key] = []
    for piece in text.split(","):
        name, _, step = piece.strip().rpartition(":") if ":" in piece else (piece.strip(), "", "")
        field = fields.get(name)
        if field is None:
            raise RequestError(
                f"There is no field {name!r} to go by{nearest(name, fields)}: the layout has "
                f"{', '.join(fields)}."
            )
        if not partition:
            if step not in ("", "asc", "desc"):
                raise RequestError(f"Sorting {name} cannot go by {step!r}: use asc or desc.")
            keys.append(Key(name, "", step == "desc"))
        elif step and (step not in STEPS or field.type not in ("date", "datetime")):
            raise RequestError(
                f"{name} cannot be partitioned by {step!r}: a date or datetime has year, month "
                "and day."
            )
        elif step:
            keys += [Key(name, each) for each in STEPS[: STEPS.index(step) + 1]]
        else:
            keys.append(Key(name))
    return tuple(keys)
