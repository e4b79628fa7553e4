"""How well the files fit an intended part size and stream count, and what is lost otherwise."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from splarn.core.survey.facts import Finding, SourceFile
from splarn.core.units import plural, show_duration, show_size
from splarn.core.work.schedule import list_schedule

# What opening, committing and closing a file costs a stream, in bytes it could have loaded instead:
# 20 ms at 50 MB/s. An assumption, said in every message that rests on it; `sweep` measures it.
OVERHEAD = 1_000_000
ASSUMED = "taking a file to cost 20 ms and a stream to load 50 MB/s"
# One worker unpacks about this much a second.
UNPACK = {"gzip": 250e6, "zstd": 600e6}
SLACK = 0.8


@dataclass(frozen=True)
class Intended:
    """How the files are meant to be loaded. `part_size` counts unpacked bytes."""

    part_size: int = 64 << 20
    streams: int = 4


def size_findings(files: Sequence[SourceFile], intended: Intended) -> list[Finding]:
    """Findings on files as they are, were they loaded as they are."""
    filled = [file for file in files if file.raw_bytes]
    if not filled:
        return []
    return [
        *_unsplittable(filled, intended),
        *_many_small(filled, intended),
        *_few_huge(filled, intended),
    ]


def _unsplittable(files: Sequence[SourceFile], intended: Intended) -> list[Finding]:
    findings = []
    for file in files:
        if file.splittable or file.raw_bytes <= intended.part_size:
            continue
        speed = UNPACK.get(file.codec, 100e6)
        parts = -(-file.raw_bytes // intended.part_size)
        findings.append(
            Finding(
                "unsplittable",
                file.path,
                f"{Path(file.path).name} is one {file.codec or file.format} stream of about "
                f"{show_size(file.raw_bytes)} unpacked, so one worker must unpack it (about "
                f"{show_duration(file.raw_bytes / speed)}) and one stream load it; shape it into "
                f"{plural(parts, 'part')} of {show_size(intended.part_size)} first",
            )
        )
    return findings


def _many_small(files: Sequence[SourceFile], intended: Intended) -> list[Finding]:
    small = [file for file in files if file.raw_bytes < intended.part_size / 8]
    if len(small) < 4 * intended.streams or len(small) < len(files) / 2:
        return []
    total = sum(file.raw_bytes for file in files)
    as_is = list_schedule([file.raw_bytes + OVERHEAD for file in files], intended.streams)
    lost = 1 - total / intended.streams / as_is
    if lost < 1 - SLACK:
        return []
    parts = max(round(total / intended.part_size), 1)
    return [
        Finding(
            "many-small",
            None,
            f"{plural(len(small), 'file')} of {len(files):,} are far below "
            f"{show_size(intended.part_size)}; loaded as they are, {lost:.0%} of the time goes "
            f"into overhead ({ASSUMED}); shape them into {plural(parts, 'part')}",
        )
    ]


def _few_huge(files: Sequence[SourceFile], intended: Intended) -> list[Finding]:
    sizes = sorted((file.raw_bytes for file in files), reverse=True)
    if sizes[0] <= intended.part_size or intended.streams == 1:
        return []
    share = sum(sizes) / intended.streams / list_schedule(sizes, intended.streams)
    if share >= SLACK:
        return []
    kind = "few-huge" if len(sizes) < 2 * intended.streams else "skew"
    largest = max(files, key=lambda file: file.raw_bytes)
    return [
        Finding(
            kind,
            largest.path,
            f"loaded as they are, {plural(intended.streams, 'stream')} would be at work only "
            f"{share:.0%} of the time, since {Path(largest.path).name} holds "
            f"{sizes[0] / sum(sizes):.0%} of all bytes; shape the files into parts of "
            f"{show_size(intended.part_size)}",
        )
    ]
