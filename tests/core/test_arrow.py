"""Arrow without pandas in processes of Splarn's own, and Parquet files as they are written."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from splarn.core.work.parquet import parquet_writer, repeating

LOADED = """
import sys
sys.argv = ["splarn", "load", "levels.csv", "--to", "sqlite:///a.db", "--table", "levels"]
from splarn.cli.main import main
try:
    main()
except SystemExit as end:
    assert not end.code
assert "pyarrow" in sys.modules
print("pandas" in sys.modules)
import pandas, pyarrow
print(len(pyarrow.table({"no": [1, 2]}).to_pandas()), len(pandas.DataFrame({"no": [1]})))
"""
BESIDE = """
import pandas, splarn, pyarrow
from splarn.core.work.arrow import spare_pandas
spare_pandas()
print(pyarrow.array(pandas.Series([1.0, None])).null_count)
"""


def test_a_command_does_not_import_pandas_for_arrow(tmp_path: Path) -> None:
    pytest.importorskip("pandas")
    (tmp_path / "levels.csv").write_text("no,level\n1,2\n2,3\n")
    for code, said in ((LOADED, ["False", "2 1"]), (BESIDE, ["1"])):
        ran = subprocess.run(
            [sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False
        )  # fmt: skip
        assert ran.returncode == 0, ran.stderr
        assert ran.stdout.splitlines()[-len(said) :] == said


def _column(kind: str, rows: int, different: int, skew: float, chance: np.random.Generator) -> Any:
    """Values of which so many are different, some of them far more frequent with more `skew`."""
    drawn = (chance.random(rows) ** (1 + skew) * different).astype(np.int64)
    if kind == "int64":
        return pa.array(drawn * 1_000_003)
    if kind == "decimal":
        return pa.array(drawn).cast(pa.decimal128(19)).cast(pa.decimal128(17, 2), safe=False)
    return pa.array([f"gauge {value:07d}" for value in drawn])


@pytest.mark.parametrize("seed", range(12))
def test_dictionaries_are_for_values_that_come_again(seed: int, tmp_path: Path) -> None:
    chance = np.random.default_rng(seed)
    rows = int(chance.integers(1_000, 150_000))
    columns = {
        f"{kind}.{n}": _column(
            kind, rows, int(rows ** chance.random() * 4) + 1, float(chance.random() * 4), chance
        )
        for n in range(4)
        for kind in ("int64", "decimal", "text")
    }
    columns["serial"], columns["none"] = pa.array(np.arange(rows)), pa.nulls(rows, pa.int64())
    group = pa.table(columns)
    chosen = repeating(group)
    assert "serial" not in chosen
    sizes = {}
    for told in (chosen, True, False):
        path = tmp_path / "one.parquet"
        with parquet_writer(path, group.schema, codec="none", level=None, dictionaries=told) as out:
            out.write_table(group)
        with pq.ParquetFile(path) as file:
            assert file.read().equals(group)
            found = file.metadata.row_group(0)
        for at, name in enumerate(group.column_names):
            column = found.column(at)
            sizes[name, str(told)] = column.total_compressed_size
            # As the Iceberg specification wants decimals of so many digits.
            assert column.physical_type == "INT64" or not name.startswith("decimal")
    for name in group.column_names:
        mine = sizes[name, str(chosen)]
        assert mine <= 1.25 * min(sizes[name, "True"], sizes[name, "False"]) + 1000, name
