"""The layout as JSON: a Data Resource with a Table Dialect and a Table Schema."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import xxhash

from splarn.core.errors import RequestError
from splarn.core.layout.dialect import LINES, Dialect
from splarn.core.layout.fields import Field, Layout
from splarn.core.work.disk import write_text
from splarn.core.work.documents import first_wrong


def to_descriptor(layout: Layout) -> dict[str, Any]:
    """The layout as a JSON-ready dictionary, standard keys only.

    Our additions: `precision`, `scale`, `sign` and `negativeBrackets` of a number, `bits` of an
    integer; `trim`, `footerRows`, `delimiterRuns`, `widths` and `shortRecords` in the dialect.
    """
    dialect = layout.dialect
    fields: list[dict[str, Any]] = []
    for field in layout.fields:
        entry: dict[str, Any] = {"name": field.name, "type": field.type}
        if field.format != "default":
            entry["format"] = field.format
        if field.precision is not None:
            entry["precision"] = field.precision
            entry["scale"] = field.scale or 0
        if field.bits != 64:
            entry["bits"] = field.bits
        if field.null_markers is not None:
            entry["missingValues"] = list(field.null_markers)
        if field.decimal_char != ".":
            entry["decimalChar"] = field.decimal_char
        if field.group_char:
            entry["groupChar"] = field.group_char
        if not field.bare_number:
            entry["bareNumber"] = False
        if field.sign:
            entry["sign"] = field.sign
        if field.brackets:
            entry["negativeBrackets"] = True
        if field.true_values:
            entry["trueValues"] = list(field.true_values)
            entry["falseValues"] = list(field.false_values)
        constraints = _constraints(field)
        if constraints:
            entry["constraints"] = constraints
        fields.append(entry)
    document: dict[str, Any] = {"name": layout.name, "format": layout.format}
    schema: dict[str, Any] = {"fields": fields}
    if layout.format == "csv":
        document["encoding"] = dialect.encoding
        document["dialect"] = {
            "delimiter": dialect.delimiter,
            "quoteChar": dialect.quote,
            "doubleQuote": True,
            "lineTerminator": dialect.line_end,
            "header": dialect.header,
            **_further(dialect),
        }
        schema["missingValues"] = list(dialect.null_markers)
    return document | {"schema": schema}


def _further(dialect: Dialect) -> dict[str, Any]:
    """What is in a dialect's file only where it is not as usual."""
    first = dialect.before + 1
    plain = dialect.before == 0 and dialect.header_rows == 1
    every = {
        "headerRows": list(range(first, first + dialect.header_rows))
        if dialect.header and not plain
        else None,
        "commentRows": list(range(1, first)) if dialect.before and not dialect.header else None,
        "commentChar": dialect.comment,
        "escapeChar": dialect.escape,
        "trim": dialect.trim,
        "skipInitialSpace": dialect.initial_space,
        "footerRows": dialect.footer,
        "delimiterRuns": dialect.runs,
        "widths": list(dialect.widths),
        "shortRecords": "fill" if dialect.fill else None,
    }
    return {name: value for name, value in every.items() if value}


def _before(read: Any, where: str) -> tuple[int, int]:
    """Lines over the header, and header lines.

    Raises RequestError where the rows named do not follow one another.
    """
    header = sorted(read.headerRows or []) if read.header else []
    comments = sorted(read.commentRows or [])
    before = header[0] - 1 if header else len(comments)
    rows = len(header) or 1
    even = header == list(range(before + 1, before + 1 + len(header)))
    if (
        not even
        or [row for row in comments if row > before]
        or (not header and comments != list(range(1, before + 1)))
    ):
        raise RequestError(
            f"The layout {where} names header and comment rows that do not follow one another from "
            "the first line on: Splarn reads no others."
        )
    return before, rows


def _constraints(field: Field) -> dict[str, Any]:
    """The constraints that are set, under the standard's names."""
    every = {
        "required": field.required or None,
        "unique": field.unique or None,
        "minimum": field.minimum,
        "maximum": field.maximum,
        "enum": None if field.enum is None else list(field.enum),
        "minLength": field.min_length,
        "maxLength": field.max_length,
        "pattern": field.pattern,
    }
    return {name: value for name, value in every.items() if value is not None}


def _text(value: Any) -> str | None:
    """A constraint's value as the files would write it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return None if value is None else str(value)


def from_descriptor(document: Any, where: str) -> Layout:
    """A layout from a dictionary; `where` names its origin in errors.

    Raises RequestError naming the key that is missing or of the wrong kind.
    """
    from pydantic import ValidationError

    from splarn.core.layout.descriptor_keys import refuse_unknown
    from splarn.core.layout.descriptor_model import ResourceModel

    if not isinstance(document, dict):
        raise RequestError(
            f"The layout {where} cannot be used: it is no JSON object; write a new one with "
            "`splarn layout`."
        )
    refuse_unknown(document, where)
    try:
        read = ResourceModel.model_validate(document)
    except ValidationError as error:
        raise RequestError(
            f"The layout {where} cannot be used: {first_wrong(error, ResourceModel)}; mend that or "
            "write a new layout with `splarn layout`."
        ) from None
    dialect = LINES
    if read.format == "csv":
        if read.dialect.shortRecords not in ("fault", "fill"):
            raise RequestError(
                f"The layout {where} has dialect.shortRecords: {read.dialect.shortRecords!r}; "
                "use fault or fill."
            )
        before, header_rows = _before(read.dialect, where)
        dialect = Dialect(
            delimiter=read.dialect.delimiter,
            quote=read.dialect.quoteChar,
            header=read.dialect.header,
            line_end=read.dialect.lineTerminator,
            encoding=read.encoding,
            null_markers=tuple(read.table.missingValues),
            escape=read.dialect.escapeChar,
            trim=read.dialect.trim,
            before=before,
            header_rows=header_rows,
            comment=read.dialect.commentChar or None,
            footer=read.dialect.footerRows,
            runs=read.dialect.delimiterRuns,
            widths=tuple(read.dialect.widths),
            initial_space=read.dialect.skipInitialSpace,
            fill=read.dialect.shortRecords == "fill",
        )
    fields = tuple(
        Field(
            name=field.name,
            type=field.type,
            format=field.format,
            required=field.constraints.required,
            unique=field.constraints.unique,
            minimum=_text(field.constraints.minimum),
            maximum=_text(field.constraints.maximum),
            enum=None
            if field.constraints.enum is None
            else tuple(str(_text(value)) for value in field.constraints.enum),
            min_length=field.constraints.minLength,
            max_length=field.constraints.maxLength,
            pattern=field.constraints.pattern,
            precision=field.precision,
            scale=field.scale if field.precision is not None else None,
            bits=field.bits,
            true_values=tuple(field.trueValues),
            false_values=tuple(field.falseValues),
            null_markers=None if field.missingValues is None else tuple(field.missingValues),
            decimal_char=field.decimalChar or ".",
            group_char=field.groupChar or "",
            bare_number=field.bareNumber,
            sign=field.sign,
            brackets=field.negativeBrackets,
        )
        for field in read.table.fields
    )
    return Layout(read.name, dialect, fields, read.format)


def read_layout(path: str | Path) -> Layout:
    """Reads a layout file.

    Raises RequestError when it is missing, no JSON, or no layout.
    """
    path = Path(path)
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise RequestError(
            f"There is no layout file {path}: write one with `splarn layout FILES --out {path}`."
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise RequestError(f"The layout {path} cannot be read: {error}.") from None
    except json.JSONDecodeError as error:
        raise RequestError(
            f"The layout {path} is not valid JSON at line {error.lineno}: {error.msg}; mend it "
            "or write a new one with `splarn layout`."
        ) from None
    return from_descriptor(document, str(path))


def write_layout(layout: Layout, path: str | Path) -> None:
    """Writes a layout file, whole or not at all."""
    path = Path(path)
    text = json.dumps(to_descriptor(layout), indent=2, ensure_ascii=False) + "\n"
    write_text(path, text)


def layout_id(layout: Layout) -> str:
    """What tells one layout from another."""
    return xxhash.xxh3_64_hexdigest(json.dumps(to_descriptor(layout), sort_keys=True).encode())
