"""Which keys a layout file may have: those that are honoured, those that only tell, no others.

A key that was passed over would let a file be read otherwise than its layout says. Keys of the
standards (Table Dialect, Table Schema and Data Resource, version 2) that Splarn does not honour are
refused by name, unless they say what holds anyway.
"""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from typing import Any

from splarn.core.errors import RequestError

# What only tells people something, or where the files are, which commands are told themselves.
_TELLING = frozenset(
    (
        "$schema", "profile", "title", "description", "example", "examples", "homepage", "licenses",
        "sources", "path", "mediatype", "bytes", "hash", "rdfType", "created", "version",
    )
)  # fmt: skip
_ANY = object()
# Of each object the keys that are read, and others of the standards with values that hold anyway.
_KEYS: dict[str, tuple[frozenset[str], Mapping[str, tuple[Any, ...]]]] = {
    "": (
        frozenset(("name", "format", "encoding", "dialect", "schema")),
        {"type": ("table",), "compression": ("none", "", None), "data": ()},
    ),
    "dialect": (
        frozenset(
            (
                "delimiter", "quoteChar", "escapeChar", "trim", "lineTerminator", "header",
                "headerRows", "commentRows", "commentChar", "skipInitialSpace", "footerRows",
                "delimiterRuns", "widths", "shortRecords",
            )
        ),
        {
            "doubleQuote": (True,),
            "nullSequence": (None,),
            "headerJoin": (" ", None),
            "caseSensitiveHeader": (True, False),
            "csvddfVersion": (_ANY,),
            "property": (None,),
            "itemType": (None,),
            "itemKeys": (None,),
            "sheetNumber": (None,),
            "sheetName": (None,),
            "table": (None,),
        },
    ),
    "schema": (
        frozenset(("fields", "missingValues")),
        {
            "primaryKey": ([], None, ""),
            "uniqueKeys": ([], None),
            "foreignKeys": ([], None),
            "fieldsMatch": ("exact", ["exact"], None),
        },
    ),
    "schema.fields": (
        frozenset(
            (
                "name", "type", "format", "precision", "scale", "bits", "trueValues", "falseValues",
                "constraints", "missingValues", "decimalChar", "groupChar", "bareNumber",
                "negativeBrackets", "sign",
            )
        ),
        {
            "categories": (None,),
            "categoriesOrdered": (False, None),
            "itemType": (None,),
        },
    ),
    "schema.fields.constraints": (
        frozenset(
            (
                "required", "unique", "minimum", "maximum", "enum", "minLength", "maxLength",
                "pattern",
            )
        ),
        {
            "exclusiveMinimum": (None,),
            "exclusiveMaximum": (None,),
            "jsonSchema": (None,),
        },
    ),
}  # fmt: skip


def refuse_unknown(document: Mapping[str, Any], where: str) -> None:
    """Raises RequestError for the first key that would be passed over, with what it may have meant.

    `where` names the document's origin.
    """
    _look(document, "", "", where)


def _look(found: Any, kind: str, path: str, where: str) -> None:
    if isinstance(found, list):
        for index, entry in enumerate(found):
            _look(entry, kind, f"{path}[{index + 1}]", where)
        return
    if not isinstance(found, Mapping):
        return
    read, known = _KEYS[kind]
    for key, value in found.items():
        inner = f"{kind}.{key}" if kind else key
        at = f"{path}.{key}" if path else key
        if key in read:
            if inner in _KEYS:
                _look(value, inner, at, where)
        elif key in known:
            if known[key] != (_ANY,) and value not in known[key]:
                raise RequestError(
                    f"The layout {where} has {at}: {value!r}, which Splarn does not honour: take "
                    "it out, and bring the files to the form without it."
                )
        elif key not in _TELLING:
            near = difflib.get_close_matches(key, [*read, *known], 1, 0.5)
            hint = f"did you mean {near[0]}" if near else f"known are {', '.join(sorted(read))}"
            raise RequestError(
                f"The layout {where} has the key {at}, which is not known: {hint}?"
                if near
                else f"The layout {where} has the key {at}, which is not known: {hint}."
            )
