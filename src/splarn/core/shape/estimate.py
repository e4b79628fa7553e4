"""What each codec and level would do here: measured on a sample of the source, on this machine."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.records.chunks import line_blocks
from splarn.core.source.codecs import Packing, codecs
from splarn.core.source.source import Source
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress, Silent

PIECE = 1 << 20
PIECES = 12


@dataclass(frozen=True)
class Estimate:
    """One packing. Speeds are unpacked bytes a second of all workers together.

    `share` is packed over unpacked bytes; `seconds` and `bytes` are for the whole volume.
    """

    packing: Packing
    pack_speed: float
    unpack_speed: float
    share: float
    seconds: float
    bytes: int


@dataclass(frozen=True)
class PackTask:
    """Sample bytes to pack; picklable."""

    packing: Packing
    data: bytes


def sample_bytes(sources: Sequence[Source]) -> list[bytes]:
    """Up to 12 MiB of unpacked bytes, spread over the source; of packed files the head.

    Raises OutsideError when a file cannot be read.
    """
    total = sum(source.size for source in sources)
    # Pieces of a small source are shorter, so that they do not overlap.
    length = min(PIECE, total // PIECES + 1)
    stretches = []
    for number in range(PIECES):
        at = int((number + 0.5) / PIECES * total)
        for source in sources:
            if at < source.size:
                start = max(min(at, source.size - length), 0) if source.codec == "none" else 0
                stretches.append(b"".join(source.blocks(start, start + length)))
                break
            at -= source.size
    return [data for data in dict.fromkeys(stretches) if data]


def run_pack_task(task: PackTask) -> tuple[int, int, float, float]:
    """Unpacked and packed bytes, and the seconds that packing (with a scan) and unpacking took."""
    from splarn.core.layout import Dialect

    codec = codecs()[task.packing.codec]
    packer = codec.packer(task.packing.level)
    begun = time.perf_counter()
    raw, pieces = 0, []
    for data, _, _ in line_blocks(iter([task.data]), Dialect(), "sample"):
        raw += len(data)
        pieces.append(packer.compress(data))
    packed = b"".join((*pieces, packer.flush()))
    done = time.perf_counter()
    if codec.name != "none":
        for _ in codec.unpacker().feed(packed):
            pass
    return raw, len(packed), done - begun, time.perf_counter() - done


def estimate(
    sample: Sequence[bytes],
    packings: Sequence[Packing],
    volume: int,
    pool: Pool,
    progress: Progress | None = None,
) -> list[Estimate]:
    """Packs the sample with each packing by all workers at once; `volume` counts unpacked bytes."""
    watch = progress or Silent()
    watch.start("estimate", len(packings), "codecs")
    estimates = []
    for packing in packings:
        tasks = [PackTask(packing, data) for data in sample]
        begun = time.perf_counter()
        results = list(pool.map(run_pack_task, tasks))
        wall = time.perf_counter() - begun
        raw = sum(result[0] for result in results)
        packed = sum(result[1] for result in results)
        packing_time = sum(result[2] for result in results)
        unpacking_time = sum(result[3] for result in results)
        # Both happen in the same wall time; each has its share of the work.
        both = max(packing_time + unpacking_time, 1e-9)
        speed = raw / max(wall * packing_time / both, 1e-9)
        back = raw / max(wall * unpacking_time / both, 1e-9)
        share = packed / max(raw, 1)
        entry = Estimate(packing, speed, back, share, volume / speed, round(volume * share))
        estimates.append(entry)
        watch.advance(1)
    watch.finish()
    return estimates
