"""A space worth trying, from how much there is to load, this machine and the target."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from splarn.core.units import exact_size

# Parts for each stream at the least, so that none of them waits long for the last one.
PARTS_A_STREAM = 4
LEAST_PART, MOST_PART = 256 << 10, 512 << 20
# What a commit of a batch may hold, in bytes: small ones cost commits, large ones memory.
BATCHES = (1 << 20, 8 << 20)
# How much each trial loads: enough to take a second or so, and not all of it.
LEAST_SAMPLE, MOST_SAMPLE, SHARE = 256 << 10, 64 << 20, 8
# So many tiers are tried, evenly over those that there are.
TIERS = 4


@dataclass(frozen=True)
class Surroundings:
    """What a space follows from: unpacked bytes, those of a row, cores, and what the target is.

    `one_writer` says that a second connection could only wait, `reads_parts` that it is handed
    files; `tiers` are the sizes of its compute, smallest first.
    """

    bytes: float
    row_bytes: float
    cores: int
    format: str
    one_writer: bool = False
    reads_parts: bool = False
    tiers: tuple[str, ...] = ()
    depot: bool = False


def suggested(of: Surroundings) -> dict[str, list[str | int]]:
    """Values by the job file's keys, each two or a few that could matter."""
    streams = _streams(of)
    sizes = _part_sizes(of.bytes, max(streams))
    codecs: list[str | int] = ["none", "zstd:1"]
    if of.format == "parquet":
        codecs = ["snappy", "zstd:1"]
    found: dict[str, list[str | int]] = {
        "part_size": [exact_size(one) for one in sizes],
        "codec": codecs,
        "workers": sorted({max(of.cores // 2, 1), of.cores}),
    }
    if of.depot:
        found["transfer_streams"] = [2, 4, 8]
    found["load_streams"] = list(streams)
    found["batch_rows"] = [0] if of.reads_parts else _batches(of.row_bytes)
    if of.tiers:
        found["tier"] = list(_spread(of.tiers, TIERS))
    return found


def sample_of(size: float) -> int:
    """How much of the source each trial should load: a power of two."""
    wanted = min(max(size / SHARE, LEAST_SAMPLE), MOST_SAMPLE)
    return _power(wanted)


def _streams(of: Surroundings) -> tuple[int, ...]:
    if of.one_writer:
        return (1,)
    if of.reads_parts:
        return (4, 16)
    return tuple(sorted({1, 2, max(of.cores, 2), 2 * of.cores}))


def _part_sizes(size: float, streams: int) -> list[int]:
    """Three sizes a factor of four apart, of which the largest still feeds every stream."""
    largest = _power(min(max(size / (PARTS_A_STREAM * streams), LEAST_PART), MOST_PART))
    return sorted({max(largest >> shift, LEAST_PART) for shift in (0, 2, 4)})


def _batches(row_bytes: float) -> list[str | int]:
    rows = [_round(size / max(row_bytes, 1.0)) for size in BATCHES]
    return [f"{one:_}" for one in sorted(set(rows))]


def _spread(values: Sequence[str], count: int) -> tuple[str, ...]:
    if len(values) <= count:
        return tuple(values)
    # Larger ones cost more to try and seldom are worth it: of many, those up to the middle.
    upper = values[: max(count, len(values) // 2 + 1)]
    at = {round(n * (len(upper) - 1) / (count - 1)) for n in range(count)}
    return tuple(upper[place] for place in sorted(at))


def _power(size: float) -> int:
    """The power of two at or below."""
    return 1 << max(int(size).bit_length() - 1, 0)


def _round(number: float) -> int:
    """A number that people write: 1, 2 or 5 with zeros."""
    size = max(int(number), 1)
    zeros = int(10 ** (len(str(size)) - 1))
    first = size // zeros
    return max(one for one in (1, 2, 5) if one <= first) * zeros


def as_toml(values: Mapping[str, Sequence[str | int]]) -> str:
    """Lines of a job file's space."""
    lines = []
    for key, several in values.items():
        shown = ", ".join(f'"{one}"' if isinstance(one, str) else str(one) for one in several)
        lines.append(f"{key} = [{shown}]")
    return "\n".join(lines)
