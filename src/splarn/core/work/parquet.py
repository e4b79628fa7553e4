"""How Parquet files are written here: which columns by dictionaries, and decimals as numbers."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.work.arrow import of_numbers

# A writer gives a dictionary up that has grown to this, and has hashed all values for nothing.
MOST_BYTES = 1 << 20
# So many rows of a group tell how often its values come again.
ASKED = 1 << 15


def parquet_writer(
    file: Any, schema: Any, *, codec: str, level: int | None, dictionaries: Any, **more: Any
) -> Any:
    """A writer of one file; `dictionaries` are names of columns, or whether all have them.

    Decimals of up to 18 digits are whole numbers, as the Iceberg specification has them
    ("Appendix A: Format-specific Requirements", Parquet).
    """
    from pyarrow.parquet import ParquetWriter

    return ParquetWriter(
        file, schema, compression=codec, compression_level=level, use_dictionary=dictionaries,
        store_decimal_as_integer=True, **more,
    )  # fmt: skip


def repeating(group: Any) -> list[str]:
    """The columns of a group of rows whose values come again so often that a dictionary is less
    than the values: for others it costs time and bytes.

    How many there are of each is foretold from some of the rows, by the first of the estimators in
    Haas, Naughton, Seshadri, Stokes: Sampling-Based Estimation of the Number of Distinct Values of
    an Attribute, VLDB 1995 (Duj1).
    """
    rows = len(group)
    if rows <= ASKED:
        some = group
    else:
        chosen = np.random.default_rng(0).choice(rows, ASKED, replace=False, shuffle=False)
        some = group.take(of_numbers(chosen))
    return [name for name in group.column_names if _repeats(some.column(name), rows)]


def _repeats(column: Any, rows: int) -> bool:
    kind = column.type
    if pa.types.is_boolean(kind):
        return False
    if pa.types.is_nested(kind):
        return True
    values = column.drop_null()
    asked = len(values)
    if not asked:
        return True
    known = rows * asked / len(column)
    counts = np.asarray(pc.value_counts(values).field("counts"))
    once = int((counts == 1).sum())
    different = len(counts) / (1 - (1 - asked / known) * once / asked)
    width = kind.bit_width / 8 if _fixed(kind) else values.nbytes / asked
    of_places = known * max(np.ceil(np.log2(max(different, 1))), 1) / 8
    book = different * width
    return bool(book <= MOST_BYTES and book + of_places < known * width)


def _fixed(kind: Any) -> bool:
    return bool(pa.types.is_primitive(kind) or pa.types.is_decimal(kind))
