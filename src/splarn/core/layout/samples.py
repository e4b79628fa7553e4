"""Sample text from all over the files: heads of many, and stretches inside the large ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.codecs import read_blocks
from splarn.core.places import Place
from splarn.core.records import BOM
from splarn.core.source import Source

HEAD = 256 << 10
STRETCH = 128 << 10
MOST_FILES = 24


@dataclass(frozen=True)
class Sample:
    """Bytes of one file; `is_head` says that they begin where the file begins."""

    path: Place
    data: bytes
    is_head: bool
    whole: bool


def take_samples(paths: Sequence[Place]) -> list[Sample]:
    """Heads of up to 24 files spread over the list, and inner stretches of the uncompressed ones.

    Raises OutsideError when a file cannot be read.
    """
    step = max(len(paths) / MOST_FILES, 1.0)
    chosen = [paths[int(index * step)] for index in range(min(len(paths), MOST_FILES))]
    samples: list[Sample] = []
    for path in chosen:
        source = Source.of(path)
        codec, size = source.codec, source.size
        blocks: list[bytes] = []
        held = 0
        for block in read_blocks(path, codec, block=HEAD):
            blocks.append(block)
            held += len(block)
            if held >= HEAD:
                break
        head = b"".join(blocks)
        whole = len(head) >= size if codec == "none" else held < HEAD
        if head.strip():
            samples.append(Sample(path, head.removeprefix(BOM), True, whole))
        inner = size - HEAD - STRETCH
        if codec == "none" and inner > 3 * STRETCH:
            # Clear of the head and of each other, so that no record is sampled twice.
            for share in (0.33, 0.66, 1.0):
                start = HEAD + int(inner * share)
                data = b"".join(read_blocks(path, codec, start, start + STRETCH))
                samples.append(Sample(path, data, False, False))
        source.check_unchanged()
    return samples


def decode(sample: Sample, encoding: str) -> str:
    """A sample as text, without the partial line at its end and, inside a file, at its start."""
    data = sample.data
    if not sample.whole:
        data = data[: data.rfind(b"\n") + 1]
    if not sample.is_head:
        data = data[data.find(b"\n") + 1 :]
    return data.decode(encoding, errors="replace")
