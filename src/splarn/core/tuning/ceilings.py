"""How near the phases of a load come to what this machine and its lines can do at most."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from splarn.core.tuning.trial import Trial


@dataclass(frozen=True)
class Nearness:
    """A phase's bytes a second beside the ceiling that it has; `what` names that in words."""

    phase: str
    speed: float
    ceiling: float
    what: str

    @property
    def share(self) -> float:
        """How much of what can be is reached; more than 1 where a cache helped."""
        return self.speed / self.ceiling

    def as_json(self) -> dict[str, Any]:
        """The figures by name."""
        return {**self.__dict__, "share": self.share}


def nearness(trial: Trial, probe: Mapping[str, Any]) -> list[Nearness]:
    """Each phase of a trial that has a ceiling in the figures that `doctor --probe` notes.

    Shaping is held against its codec by as many cores as workers, shipping against the depot's line
    with as many streams, loading against what the disk takes.
    """
    found = []
    cores = min(trial.configuration.workers, os.cpu_count() or 1)
    packing = str(trial.configuration.packing)
    codec = probe.get("codecs", {}).get(packing)
    shaping = trial.phases.get("shape", 0.0)
    if codec and shaping > 0 and trial.configuration.format != "parquet":
        what = f"what {packing} packs of this data with {cores} core{'s' * (cores > 1)}"
        speed = codec["pack"] * cores
        found.append(Nearness("shape", trial.bytes / shaping, speed, what))
    line = {int(streams): speed for streams, speed in probe.get("depot_line", ())}
    shipping = trial.phases.get("ship", 0.0)
    if line and shipping > 0 and trial.configuration.transfer_streams:
        known = max(
            (one for one in line if one <= trial.configuration.transfer_streams), default=min(line)
        )
        what = f"what the depot's line carries with {known} stream{'s' * (known > 1)}"
        found.append(Nearness("ship", trial.packed_bytes / shipping, line[known], what))
    loading = trial.phases.get("load", 0.0)
    if probe.get("disk_write") and loading > 0:
        what = "what the disk here takes in order"
        found.append(Nearness("load", trial.bytes / loading, float(probe["disk_write"]), what))
    return found
