"""What tests of the program begin with."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.cli.home import LAYOUT, readings


@pytest.fixture
def home(tmp_path: Path) -> Path:
    (tmp_path / "layout.json").write_text(json.dumps(LAYOUT))
    readings(tmp_path / "in" / "a.csv", 1, 400)
    readings(tmp_path / "in" / "b.csv", 401, 700)
    return tmp_path
