"""Arrow without pandas in processes of Splarn's own; whoever asks for pandas has it."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

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
