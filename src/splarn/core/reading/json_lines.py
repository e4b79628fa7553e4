"""Typed columns out of JSON lines, and the records that do not fit the layout.

As with delimited text, Arrow reads a chunk at one go where all of it fits; otherwise each record is
read on its own.
"""

from __future__ import annotations

import json
import re
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pyarrow import json as arrow_json

from splarn.core.layout import Layout
from splarn.core.reading.delimited import careful_values, has_long_digits
from splarn.core.reading.parsed import Blamer, Parsed, TextParser, as_parsed
from splarn.core.records.bitmaps import Bitmaps
from splarn.core.records.chunks import Chunk

# A power so large that Arrow would make another decimal of it.
_FAR = re.compile(rb"[0-9][eE][+-]?[0-9]{2}")


class _Number(str):
    """A JSON number as it is written."""


class TwiceError(ValueError):
    """A key that comes twice in one object."""


def _pairs(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    record = dict(pairs)
    if len(record) < len(pairs):
        names = [name for name, _ in pairs]
        raise TwiceError(next(name for name in names if names.count(name) > 1))
    return record


def read_object(text: str) -> Any:
    """A JSON value with its numbers as they are written. Raises ValueError for what is none."""
    return json.loads(text, parse_float=_Number, parse_int=_Number, object_pairs_hook=_pairs)


def as_text(value: Any) -> str | None:
    """A value of a JSON record as its field is to read it."""
    if value is None or isinstance(value, str):
        return None if value is None else str(value)
    if isinstance(value, bool):
        return "true" if value else "false"
    return json.dumps(_plain(value), ensure_ascii=False, separators=(",", ":"))


def kind_of(value: Any) -> str:
    """The JSON kind of a value: null, boolean, integer, number, string, object or array."""
    if isinstance(value, _Number):
        return "number" if set(value) & set(".eE") else "integer"
    kinds = {bool: "boolean", str: "string", dict: "object", list: "array"}
    return kinds.get(type(value), "null")


def _plain(value: Any) -> Any:
    """A value with its numbers as numbers again."""
    if isinstance(value, _Number):
        return json.loads(value)
    if isinstance(value, dict):
        return {name: _plain(inner) for name, inner in value.items()}
    return [_plain(inner) for inner in value] if isinstance(value, list) else value


class JsonParser(TextParser):
    """Reads one JSON object a line; a missing key is a null, an unknown one a fault."""

    def __init__(self, layout: Layout, path: str) -> None:
        super().__init__(layout, path)
        # Arrow gives no nested value as text, and takes numbers for dates.
        # Names with points, which lead into nested objects.
        self._paths = tuple(name for name in layout.names if "." in name)
        self._inner = frozenset(
            name[:at] for name in self._paths for at, mark in enumerate(name) if mark == "."
        )
        self._at_one_go = not self._paths and not any(
            field.is_json or field.type == "any" for field in layout.fields
        )
        self._late = [
            field
            for field in layout.fields
            if field.is_converted or field.type in ("date", "datetime", "time")
        ]
        late = {field.name for field in self._late}
        schema = pa.schema(
            [(f.name, pa.string() if f.name in late else f.arrow_type()) for f in layout.fields]
        )
        self._decimals = any(field.is_decimal for field in layout.fields)
        self._fractions = any(field.type == "number" for field in layout.fields)
        self._options = arrow_json.ParseOptions(
            explicit_schema=schema, unexpected_field_behavior="error", newlines_in_values=False
        )
        self._read = arrow_json.ReadOptions(use_threads=False, block_size=1 << 30)

    def _parse_direct(self, chunk: Chunk) -> Any:
        if not self._at_one_go or not _is_clean(chunk.data):
            return None
        if self._fractions and has_long_digits(Bitmaps(chunk.data)):
            return None
        if self._decimals and _FAR.search(chunk.data):
            return None
        try:
            table = arrow_json.read_json(pa.BufferReader(chunk.data), self._read, self._options)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            return None
        return self._fitted(table.select(list(self.layout.names)), self._late, _without_empty)

    def _parse_carefully(self, chunk: Chunk) -> Parsed:
        blame = Blamer(self.faults_of(chunk))
        values: dict[str, list[str | None]] = {name: [] for name in self.layout.names}
        rows = []
        for row, (start, end) in enumerate(
            zip(chunk.starts.tolist(), chunk.ends.tolist(), strict=True)
        ):
            record = self._record(row, chunk.data[start:end], blame)
            if record is None:
                continue
            rows.append(row)
            for name, column in values.items():
                column.append(record[name])
        indexes = np.array(rows, dtype=np.int64)
        columns = [
            careful_values(pa.array(values[field.name], pa.string()), field, indexes, blame)
            for field in self.layout.fields
        ]
        keep = blame.kept(indexes)
        typed = pa.table(columns, schema=self.layout.arrow_schema).filter(pa.array(keep))
        return as_parsed(chunk, typed, indexes[keep], blame.ordered())

    def _record(self, row: int, raw: bytes, blame: Blamer) -> dict[str, str | None] | None:
        """A record's values as text, or None where there is a fault."""
        try:
            record = read_object(raw.decode())
        except UnicodeDecodeError:
            blame(row, None, "encoding", None, "bytes that are no UTF-8")
            return None
        except TwiceError as error:
            blame(row, str(error), "columns", None, "a key that comes twice")
            return None
        except RecursionError:
            blame(row, None, "record", None, "JSON that is nested too deeply to be read")
            return None
        except ValueError as error:
            reason = str(error).split(":")[0].lower()
            blame(row, None, "record", None, f"no JSON that can be read ({reason})")
            return None
        if not isinstance(record, dict):
            blame(row, None, "record", None, "no JSON object")
            return None
        try:
            record = flattened(record, self._inner) if self._paths else record
        except TwiceError as error:
            blame(row, str(error), "columns", None, "a key that comes twice once it is flattened")
            return None
        for name in record:
            if name not in self.layout.names:
                blame(row, name, "columns", None, "a key that the layout does not have")
                return None
        texts: dict[str, str | None] = {}
        for field in self.layout.fields:
            value = record.get(field.name)
            text = as_text(value)
            if isinstance(value, (dict, list)) and not (field.is_json or field.type == "any"):
                blame(row, field.name, "type", text, f"not {field.describe()} but nested JSON")
                return None
            if text is not None and "\0" in text:
                blame(row, field.name, "record", None, "a NUL character, which no target can store")
                return None
            if text is not None and _is_broken(text):
                blame(row, field.name, "encoding", None, "half a character, which is no text")
                return None
            # An empty text is no value where something else than text is meant.
            texts[field.name] = None if text == "" and not field.is_free_text else text
        return texts


def _without_empty(text: Any) -> Any:
    return pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text)


def flattened(record: dict[str, Any], inner: frozenset[str] | None = None) -> dict[str, Any]:
    """Nested objects as names joined by points; with `inner`, only those of these names.

    Raises TwiceError where two values would have one name.
    """
    flat: dict[str, Any] = {}

    def put(name: str, value: Any) -> None:
        if isinstance(value, dict) and (value or inner) and (inner is None or name in inner):
            for key, below in value.items():
                put(f"{name}.{key}", below)
            return
        if inner is not None and name in inner and value is None:
            # Nothing is nested here.
            return
        if name in flat:
            raise TwiceError(name)
        flat[name] = value

    for name, value in record.items():
        put(name, value)
    return flat


def _is_broken(text: str) -> bool:
    """Whether a text holds half of a pair of surrogates, which no encoding has."""
    return not text.isascii() and any("\ud800" <= mark <= "\udfff" for mark in text)


def _is_clean(data: bytes) -> bool:
    """Whether a chunk is surely UTF-8 without NUL characters, escaped ones too."""
    if b"\\u0000" in data or b"\0" in data or b"\\ud" in data or b"\\uD" in data:
        return False
    if data.isascii():
        return True
    try:
        data.decode()
    except UnicodeDecodeError:
        return False
    return True
