"""How near the phases of a load come to what this machine and its lines can do at most."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from splarn.core.tuning.configuration import Configuration
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


def ceilings(
    configuration: Configuration, probe: Mapping[str, Any]
) -> dict[str, tuple[float, str]]:
    """Bytes a second that each phase reaches at most here, and what that is in words.

    Of the figures that `doctor --probe` notes: shaping is held against its codec by as many cores
    as workers, shipping, in packed bytes, against the depot's line with as many streams, loading
    against what the disk takes.
    """
    found = {}
    cores = min(configuration.workers, os.cpu_count() or 1)
    packing = str(configuration.packing)
    codec = probe.get("codecs", {}).get(packing)
    if codec and configuration.format != "parquet":
        what = f"what {packing} packs of this data with {cores} core{'s' * (cores > 1)}"
        found["shape"] = (float(codec["pack"]) * cores, what)
    line = {int(streams): speed for streams, speed in probe.get("depot_line", ())}
    if line and configuration.transfer_streams:
        known = max((one for one in line if one <= configuration.transfer_streams),
                    default=min(line))  # fmt: skip
        what = f"what the depot's line carries with {known} stream{'s' * (known > 1)}"
        found["ship"] = (float(line[known]), what)
    if probe.get("disk_write"):
        found["load"] = (float(probe["disk_write"]), "what the disk here takes in order")
    return found


def nearness(trial: Trial, probe: Mapping[str, Any]) -> list[Nearness]:
    """Each phase of a trial that has a ceiling, beside it."""
    moved = {"shape": trial.bytes, "ship": trial.packed_bytes, "load": trial.bytes}
    return [
        Nearness(phase, moved[phase] / trial.phases[phase], ceiling, what)
        for phase, (ceiling, what) in ceilings(trial.configuration, probe).items()
        if trial.phases.get(phase, 0.0) > 0
    ]
