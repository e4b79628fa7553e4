"""What the tests of engines share."""

from __future__ import annotations

import pytest

from splarn.core.source.content import Reading


@pytest.fixture(autouse=True)
def few_bytes_tell_files_apart(monkeypatch: pytest.MonkeyPatch) -> None:
    """Files of tests are small, and are to be known by how they begin as large ones are."""
    monkeypatch.setattr(Reading, "first", 48)
