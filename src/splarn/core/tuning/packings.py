"""What packings make of the data and how fast this machine is at it, measured without a trial."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from splarn.core.shape.estimate import PackTask, run_pack_task, sample_bytes
from splarn.core.source.codecs import Packing, codecs
from splarn.core.source.places import Place
from splarn.core.source.source import Source
from splarn.core.tuning.columns import MB, Packed

# Pieces of the source that are packed: enough for a few parts in a hundred, soon done.
PIECES = 4


def measured(files: Sequence[Place], form: str, packings: Iterable[Packing]) -> dict[str, Packed]:
    """What each packing does to parts of a text format, by its kind's name, with one worker.

    Raises OutsideError when a file cannot be read.
    """
    found = {}
    sample = sample_bytes([Source.of(file) for file in files])
    sample = sample[:: max(len(sample) // PIECES, 1)][:PIECES]
    # Codecs of columnar formats pack columns, which a piece of text tells nothing of.
    for packing in (one for one in dict.fromkeys(packings) if one.codec in codecs()):
        told = [run_pack_task(PackTask(packing, data)) for data in sample]
        raw = sum(one[0] for one in told)
        if not raw:
            continue
        share = sum(one[1] for one in told) / raw
        pack, unpack = (sum(one[place] for one in told) / raw * MB for place in (2, 3))
        nothing = packing.codec == "none"
        found[f"{form} {packing}"] = Packed(share, pack, 0.0 if nothing else unpack)
    return found
