"""Row hashes as MariaDB computes them: CRC-32 over the text of a row's cells."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import pyarrow as pa

from splarn.core import kernel
from splarn.core.kernel import Source, source_of
from splarn.core.target.hashing import RowSum
from splarn.engines.sql.row_bytes import flat

_TEXTS = re.compile(r"(?:tiny|medium|long)?text|varchar\(\d+\)")
_WHOLE = re.compile(r"(?:tiny|small|medium|big)?int(?:\(\d+\))?")
_DECIMAL = re.compile(r"decimal\(\d+,(\d+)\)")
_MOMENT = re.compile(r"(?:datetime|time)(?:\((\d)\))?")


def can_hash(declared: str) -> bool:
    """Whether cells of a declared type are written here as the server writes them."""
    kinds = (_TEXTS, _WHOLE, _DECIMAL, _MOMENT)
    return declared == "date" or any(kind.fullmatch(declared) for kind in kinds)


class MariadbHasher:
    """Hashes rows as the server does, whose columns are declared so."""

    def __init__(self, declared: Mapping[str, str]) -> None:
        self.declared = dict(declared)

    def sum_of(self, rows: Any) -> RowSum | None:
        """See RowHasher."""
        sources = []
        for name, declared in self.declared.items():
            source = _source(flat(rows.column(name)), declared)
            if source is None:
                return None
            sources.append(source)
        total = kernel.text_hashes(len(rows), sources)
        return None if total is None else RowSum(len(rows), total)


def _source(array: Any, declared: str) -> Source | None:
    kind = array.type
    if pa.types.is_string(kind) and _TEXTS.fullmatch(declared):
        return source_of(kernel.TEXT, 0, array)
    if pa.types.is_signed_integer(kind) and _WHOLE.fullmatch(declared):
        return source_of(kernel.INTEGER, kind.bit_width, array)
    if pa.types.is_boolean(kind) and _WHOLE.fullmatch(declared):
        return source_of(kernel.BOOLEAN, 0, array)
    if pa.types.is_date32(kind) and declared == "date":
        return source_of(kernel.DATE, 0, array)
    if pa.types.is_decimal128(kind) and kind.scale >= 0 and (m := _DECIMAL.fullmatch(declared)):
        scale = int(m[1])
        room = kind.precision - kind.scale + scale <= 38
        return source_of(kernel.DECIMAL, scale << 8 | kind.scale, array) if room else None
    if (m := _MOMENT.fullmatch(declared)) is None:
        return None
    digits = int(m[1] or 0)
    if pa.types.is_timestamp(kind) and declared.startswith("datetime"):
        return source_of(kernel.STAMP, digits, array.cast(pa.timestamp("us")))
    if pa.types.is_time(kind) and not declared.startswith("datetime"):
        return source_of(kernel.TIME, digits, array.cast(pa.time64("us")))
    return None
