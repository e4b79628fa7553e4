"""One measured load with one configuration."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import Any

from splarn.core.prices import Stretch, Usage
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.gauges import Used


@dataclass(frozen=True)
class Trial:
    """What one trial measured. `phases` and `seconds` are in seconds, `bytes` unpacked.

    `role` is trial, reference (the configuration that comes back to show drift), small (of less
    than the sample, so that what is fixed and what grows can be told apart) or warm-up.
    `compute` is what ran, where the target's compute has sizes. `failure` says why it is none to
    learn from: its times mean nothing. `used` is what it took of this machine.
    """

    configuration: Configuration
    repeat: int
    role: str
    seconds: float
    phases: dict[str, float]
    rows: int
    bytes: int
    packed_bytes: int
    parts: int
    started: str
    compute: tuple[Stretch, ...] = ()
    failure: str = ""
    used: Used = field(default_factory=Used)

    @property
    def tells(self) -> bool:
        """Whether laws can be learned from it: no warm-up, and it loaded what it read."""
        return self.role != "warm-up" and not self.failure

    @property
    def counts(self) -> bool:
        """Whether it also can be held against others, which loaded as much."""
        return self.tells and self.role != "small"

    def as_json(self) -> dict[str, Any]:
        """Everything, ready for JSON."""
        return {
            "configuration": self.configuration.as_json(),
            "repeat": self.repeat,
            "role": self.role,
            "seconds": self.seconds,
            "phases": self.phases,
            "rows": self.rows,
            "bytes": self.bytes,
            "packed_bytes": self.packed_bytes,
            "parts": self.parts,
            "started": self.started,
            "failure": self.failure,
            "used": self.used.as_json(),
            "bound": self.used.bound(self.seconds),
            "compute": [[one.tier, one.seconds, one.starts] for one in self.compute],
        }

    @classmethod
    def from_json(cls, document: dict[str, Any]) -> Trial:
        """The reverse of `as_json`; what else was noted with the trial is left out."""
        known = {one.name for one in fields(cls)}
        kept = {name: value for name, value in document.items() if name in known}
        kept["configuration"] = Configuration.from_json(document["configuration"])
        kept["compute"] = tuple(Stretch(*one) for one in document.get("compute", ()))
        kept["used"] = Used(**document.get("used", {}))
        return cls(**kept)

    @property
    def usage(self) -> Usage:
        """What it used; a compute without sizes of its own is busy but while it shapes."""
        busy = self.seconds - self.phases.get("shape", 0.0)
        return Usage(self.compute or (Stretch(self.configuration.tier, busy),), self.seconds)
