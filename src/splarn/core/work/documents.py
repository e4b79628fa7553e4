"""What is wrong with a document that people write, in a sentence of our own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, get_args

from splarn.core.work.words import nearest

if TYPE_CHECKING:
    from pydantic import BaseModel, ValidationError

# What a value must be, by the kind of misfit that the validation names.
_MUST = {
    "string_type": "text in quotes",
    "list_type": "a list in square brackets",
    "tuple_type": "a list in square brackets",
    "dict_type": "a section of keys",
    "model_type": "a section of keys",
    "dataclass_type": "a section of keys",
    "bool_type": "true or false",
    "bool_parsing": "true or false",
    "int_type": "a whole number",
    "int_parsing": "a whole number",
    "int_from_float": "a whole number",
    "float_type": "a number",
    "float_parsing": "a number",
    "finite_number": "a finite number",
    "path_type": "a path in quotes",
}
_CHOICES = "literal_error"
_BOUNDS = {
    "greater_than_equal": ("ge", "{} or more"),
    "greater_than": ("gt", "more than {}"),
    "less_than_equal": ("le", "{} or less"),
    "less_than": ("lt", "less than {}"),
}


def first_wrong(error: ValidationError, model: type[BaseModel] | None = None) -> str:
    """The first thing that a document lacks, has too much or has wrong.

    `model` is what it was held against; with it, keys that are not known are told what is.
    """
    entries = error.errors()
    first = entries[0]
    place = tuple(first["loc"])
    # Of a value that may be of several kinds, each kind that it is not comes as an error.
    kinds = [one for one in entries if one["type"] in _MUST and one["input"] is first["input"]]
    key = ".".join(str(piece) for piece in place) or "the document"
    kind, given = first["type"], first["input"]
    if kind in ("extra_forbidden", "unexpected_keyword_argument"):
        return _unknown(place, _keys_at(model, place[:-1]))
    if kind in ("missing", "missing_argument"):
        return f"{key} is missing"
    if kind in _BOUNDS:
        name, words = _BOUNDS[kind]
        bound = f"{first['ctx'][name]:g}"
        return f"{key} is {given!r}, and must be {words.format(bound)}"
    if kind == _CHOICES:
        return f"{key} is {given!r}, and must be {first['ctx']['expected']}"
    if len(kinds) > 1:
        key = ".".join(str(piece) for piece in place[:-1])
    must = list(dict.fromkeys(_MUST[one["type"]] for one in kinds))
    if "a number" in must and "a whole number" in must:
        must.remove("a whole number")
    wanted = " or ".join(must)
    shown = repr(given) if len(repr(given)) <= 60 else f"{repr(given)[:57]}..."
    return f"{key} is {shown}, and must be {wanted or 'of another kind'}"


def _unknown(place: Sequence[str | int], known: Sequence[str]) -> str:
    key = ".".join(str(piece) for piece in place)
    hint = nearest(str(place[-1]), known)
    if hint:
        return f"{key} is no key that is known{hint}"
    return f"{key} is no key that is known; there are {', '.join(known)}" if known else (
        f"{key} is no key that is known"
    )  # fmt: skip


def _keys_at(model: Any, place: Sequence[str | int]) -> list[str]:
    """The keys that a model has at a place inside it, none where it is no section."""
    for piece in place:
        inner = getattr(model, "model_fields", {}).get(piece)
        if inner is not None:
            model = inner.annotation
        else:
            # An entry of a list or a section of any keys: its own kind comes last.
            kinds = get_args(model)
            model = kinds[-1] if kinds else None
    fields: Mapping[str, Any] = getattr(model, "model_fields", {})
    return [name for name in fields if name not in ("folder", "path")]
