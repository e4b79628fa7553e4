"""What codecs, a target and a depot's line can do at most, each measured in a second or so."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial

from splarn.core.shape.estimate import estimate, sample_bytes
from splarn.core.ship.depot import Depot
from splarn.core.source.codecs import Packing
from splarn.core.source.retry import Trying
from splarn.core.source.source import Source
from splarn.core.target.notes import LoadNote
from splarn.core.target.session import OpenEngine
from splarn.core.work.pool import Inline
from splarn.core.work.probe import quickest, until_it_grows_no_more

TRIED = ("none", "lz4:0", "gzip:1", "zstd:1", "zstd:3")
# What one stream sends to a depot at first, to see how much it sends in so many seconds.
FIRST, LEAST, MOST = 256 << 10, 64 << 10, 16 << 20
SECONDS = 0.7
# The name of what is put somewhere for a probe, and taken away again.
PROBE = "splarn_probe"


def codec_speeds(sources: Sequence[Source]) -> dict[str, dict[str, float]]:
    """Bytes a second that one core packs and unpacks of the data, and to what share.

    Empty where there is none. Raises OutsideError when a file cannot be read.
    """
    sample = sample_bytes(sources)
    if not sample:
        return {}
    found = estimate(sample, [Packing.parse(text) for text in TRIED], 0, Inline())
    return {
        str(one.packing): {"pack": one.pack_speed, "unpack": one.unpack_speed, "share": one.share}
        for one in found
    }


def target_times(open_engine: OpenEngine) -> dict[str, float]:
    """Seconds of a round trip to the target, and of a commit of one small change.

    Raises OutsideError when the target cannot be reached or refuses.
    """
    session = open_engine().connect()

    def commit() -> None:
        session.notes.put_load(LoadNote(PROBE, PROBE, "probe", "probe", ""))
        session.commit()

    try:
        trip = quickest(session.version if session.compute is None else session.compute.size)
        session.rollback()
        try:
            committing = quickest(commit)
        finally:
            session.rollback()
            session.notes.forget(PROBE)
            session.commit()
    finally:
        session.close()
    return {"round_trip": trip, "commit": max(committing - trip, 0.0)}


def line_speeds(depot: Depot) -> list[tuple[int, float]]:
    """Bytes a second that 1, 2, 4 … streams send to the depot, until more send no more.

    Raises OutsideError when the depot fails.
    """
    folder = f"{PROBE}_{os.getpid()}"

    def send(name: str, data: bytes) -> None:
        def put() -> None:
            blocks: Iterator[bytes] = iter([data])
            depot.put(name, blocks, len(data), hashlib.sha256(data).hexdigest())

        Trying(depot.place, name).until_ready(put)

    def measure(streams: int, size: int) -> float:
        data = [os.urandom(size) for _ in range(streams)]
        names = [f"{folder}/{number}" for number in range(streams)]
        try:
            begun = time.perf_counter()
            with ThreadPoolExecutor(streams) as pool:
                list(pool.map(send, names, data))
            return streams * size / (time.perf_counter() - begun)
        finally:
            for name in names:
                depot.delete(name)

    first = measure(1, FIRST)
    size = int(min(max(first * SECONDS, LEAST), MOST))
    return until_it_grows_no_more(partial(measure, size=size))
