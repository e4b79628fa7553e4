"""Samples of text from all over the files: heads of many, and stretches inside the large ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.records.scanning import BOM
from splarn.core.source.codecs import read_blocks
from splarn.core.source.places import Place
from splarn.core.source.source import Source

HEAD = 256 << 10
STRETCH = 128 << 10
MOST_FILES = 24
# A head of one file among many may be smaller.
LEAST_HEAD = 32 << 10
# Unpacked bytes of all heads together.
ALL_HEADS = 2 << 20
# Unpacked bytes up to which a few files are looked into that must be read from their start.
DEEPEST = 16 << 20
FEW_FILES = 4
# A head of fewer lines, which long ones make, goes on up to so many bytes.
LEAST_LINES = 20
LONGEST_LOOK = 40 << 20


@dataclass(frozen=True)
class SampledText:
    """Bytes of one file; `is_head` says that they begin where the file begins.

    `whole` says that they are all of it, `is_tail` that they end where it ends.
    """

    source: Source
    data: bytes
    is_head: bool
    whole: bool
    is_tail: bool = False

    @property
    def path(self) -> Place:
        """Where the file is."""
        return self.source.place


def take_samples(sources: Sequence[Source]) -> list[SampledText]:
    """Heads of up to 24 files spread over the list, and inner stretches of the uncompressed ones.

    Raises OutsideError when a file cannot be read or changes meanwhile.
    """
    step = max(len(sources) / MOST_FILES, 1.0)
    chosen = [sources[int(index * step)] for index in range(min(len(sources), MOST_FILES))]
    longest = max(min(HEAD, ALL_HEADS // max(len(chosen), 1)), LEAST_HEAD)
    samples: list[SampledText] = []
    for source in chosen:
        codec, size = source.codec, source.size
        deep = codec != "none" and len(chosen) <= FEW_FILES
        head, further, whole = _flowing(source, longest, deep)
        if codec == "none":
            whole = len(head) >= size
        if head.strip(b"\r\n\t \0"):
            samples.append(SampledText(source, head.removeprefix(BOM), True, whole, whole))
        samples += [SampledText(source, data, False, False) for data in further]
        inner = size - longest - STRETCH
        if codec == "none" and inner > 3 * STRETCH:
            # Clear of the head and of each other, so that no record is sampled twice.
            for share in (0.33, 0.66, 1.0):
                start = longest + int(inner * share)
                data = b"".join(read_blocks(source.place, codec, start, start + STRETCH))
                samples.append(SampledText(source, data, False, False, share == 1.0))
        source.check_unchanged()
    return samples


def _flowing(source: Source, longest: int, deep: bool) -> tuple[bytes, list[bytes], bool]:
    """The head of a file, stretches further on where it goes `deep`, and whether that is all."""
    head: list[bytes] = []
    further: list[bytes] = []
    held = kept = lines = 0
    wanted = longest
    for block in read_blocks(source.place, source.codec, block=longest):
        if held < longest or lines < LEAST_LINES:
            head.append(block)
            kept += len(block)
            lines += block.count(b"\n")
        elif held >= wanted:
            further.append(block[:STRETCH])
            wanted = held * 2
        held += len(block)
        enough = lines >= LEAST_LINES or held >= LONGEST_LOOK
        if enough and held >= (DEEPEST if deep else longest):
            break
    else:
        if kept == held:
            return b"".join(head), further, True
    text = b"".join(head)
    few = text.count(b"\n", 0, longest + STRETCH) < LEAST_LINES
    return text if few else text[: longest + STRETCH], further, False


def decode(sample: SampledText, encoding: str, line_end: str = "\n") -> str:
    """A sample as text, without the partial line at its end and, inside a file, at its start.

    Lines end with a line feed in it, whatever they end with in the file.
    """
    end = line_end[-1].encode()
    data = sample.data
    if encoding.startswith(("utf-16", "utf-32")):
        if not sample.is_head:
            # Where a letter begins inside the file is not known.
            return ""
        text = data.decode(encoding, errors="replace").removeprefix("\ufeff")
        text = text.replace("\r", "\n") if line_end == "\r" else text.replace("\r\n", "\n")
        return text if sample.whole else text[: text.rfind("\n") + 1]
    if not sample.is_tail:
        cut = data.rfind(end) + 1
        # A file of one endless line is judged by its beginning.
        data = data[:cut] if cut or not sample.is_head else data[:STRETCH]
    if not sample.is_head:
        data = data[data.find(end) + 1 :]
    text = data.decode(encoding, errors="replace")
    return text.replace("\r", "\n") if line_end == "\r" else text.replace("\r\n", "\n")
