"""How much is to be loaded, by what a sample of it tells."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.source.places import Place
from splarn.core.source.source import Source
from splarn.core.survey import survey
from splarn.core.tuning.columns import Volume


def volume_of(sample: Mapping[str, Any], files: Sequence[Place], by_rows: bool = False) -> Volume:
    """How much files hold, unpacked, by the `bytes` and `rows` of a sample of them.

    Of files of other layouts it is their rows that tell (`by_rows`), as if they were like the
    sample's. Raises RequestError where a file is damaged, OutsideError when one cannot be read.
    """
    row_bytes = _row_bytes(sample)
    sources = [Source.of(path) for path in files]
    plain = all(source.codec == "none" and source.format != "parquet" for source in sources)
    if plain and not by_rows:
        total: float = sum(source.size for source in sources)
        sizes = tuple(float(source.size) for source in sources)
        return Volume(total, total / row_bytes, files=sizes)
    catalogue = survey(files)
    if catalogue.rows is None:
        raise RequestError("A source file is damaged, so its volume is not known: survey it.")
    low, high = catalogue.rows_bounds
    error = (high - low) / 2 / max(catalogue.rows, 1)
    total = catalogue.rows * row_bytes
    packed = max(sum(source.size for source in sources), 1)
    sizes = tuple(total * source.size / packed for source in sources)
    return Volume(total, catalogue.rows, error, sizes)


def volume_like(sample: Mapping[str, Any], size: float) -> Volume:
    """So many unpacked bytes of rows like a sample's."""
    return Volume(size, size / _row_bytes(sample))


def _row_bytes(sample: Mapping[str, Any]) -> float:
    return float(sample["bytes"] / max(sample["rows"], 1))
