"""What a stage is said to take is what it took, wherever it runs and whatever it lies within."""

from __future__ import annotations

import time
from collections.abc import Iterator
from threading import Thread

import pytest

from splarn.core.work.stages import Stages, stage, summed


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    """A clock of all threads that moves when it is moved."""
    now = [0.0]
    monkeypatch.setattr(time, "thread_time", lambda: now[0])
    return now


def test_stages_count_alone_and_add_up_to_all(clock: list[float]) -> None:
    stages = Stages()

    def blocks() -> Iterator[int]:
        for number in range(3):
            clock[0] += 1
            yield number

    def parsed() -> Iterator[int]:
        for number in stages.drawn("read", blocks()):
            clock[0] += 10
            yield number

    with stages.entered(), stage("other"):
        clock[0] += 0.5
        for _ in stages.drawn("judge", parsed()):
            with stage("send"):
                clock[0] += 100
                with stage("encode"):
                    clock[0] += 1000
                clock[0] += 200
    assert stages.seconds == {"other": 0.5, "read": 3, "judge": 30, "send": 900, "encode": 3000}
    assert list(summed(iter([stages.seconds, {"read": 1.0}]))) == [
        "read", "judge", "encode", "send", "other",
    ]  # fmt: skip
    # Nothing is counted where there is no task, and an error ends a stage too.
    with stage("send"):
        clock[0] += 1
    with pytest.raises(ValueError, match="spoiled"), stages.entered(), stage("send"):
        clock[0] += 1
        raise ValueError("spoiled")
    assert stages.seconds["send"] == 901


def test_what_another_thread_draws_is_counted_with_the_task(clock: list[float]) -> None:
    stages = Stages()

    def slow() -> Iterator[int]:
        clock[0] += 5
        yield 1

    thread = Thread(target=lambda: list(stages.drawn("judge", slow())))
    with stages.entered():
        thread.start()
        thread.join()
    assert stages.seconds == {"judge": 5}
