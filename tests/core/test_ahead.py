"""Drawing ahead: the same items in the same order, errors in their place, nothing left running."""

from __future__ import annotations

import threading
from collections.abc import Iterator

import pytest

from splarn.core.work.read_ahead import ahead


def test_items_and_errors_come_in_order() -> None:
    def items() -> Iterator[int]:
        yield from range(20)
        raise ValueError("the end")

    found = []
    with pytest.raises(ValueError, match="the end"), ahead(items()) as drawn:
        for item in drawn:
            found.append(item)
    assert found == list(range(20))
    with ahead(iter("abc")) as letters:
        assert list(letters) == ["a", "b", "c"]


def test_leaving_early_stops_the_drawing() -> None:
    drawn: list[int] = []
    before = threading.active_count()

    def items() -> Iterator[int]:
        for number in range(1000):
            drawn.append(number)
            yield number

    with pytest.raises(KeyError), ahead(items(), depth=3) as some:
        assert next(some) == 0
        raise KeyError
    assert len(drawn) <= 6
    assert threading.active_count() == before
