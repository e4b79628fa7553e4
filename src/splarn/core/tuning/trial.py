"""One measured load with one configuration."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import Any

from splarn.core.prices import Stretch, Usage
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.design import ALONE, FLOW, share_of
from splarn.core.tuning.gauges import Used
from splarn.core.tuning.readers import Readings


@dataclass(frozen=True)
class Trial:
    """What one trial measured. `phases` and `seconds` are in seconds, `bytes` unpacked.

    `role` is trial, reference (the configuration that comes back to show drift), small (of less
    than the sample, so that what is fixed and what grows can be told apart), large (of more, where
    the sample has too few parts to show what many streams do), alone (the reference without the
    readers that others have beside them), flow (with stages at work at the same time, which tells
    how far they share the machine) or warm-up.
    `compute` is what ran, where the target's compute has sizes. `failure` says why it is none to
    learn from: its times mean nothing. `used` is what it took of this machine, `read` what
    sessions that read beside it came to. `moved` are bytes
    handed over or fetched, `scanned` those that a rented engine read, and `waited` are seconds that
    a depot asked for. `part_seconds` are what each part took, by the engine's own record
    where it reads parts itself, and `part_bytes` what each holds, unpacked. `overlapped` are the
    seconds that it took with its stages at work at the same time, 0 where they followed one
    another; `seconds` are those of all phases.
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
    read: Readings = field(default_factory=Readings)
    moved: int = 0
    requests: int = 0
    scanned: int = 0
    waited: float = 0.0
    part_seconds: tuple[float, ...] = ()
    part_bytes: tuple[int, ...] = ()
    overlapped: float = 0.0

    @property
    def tells(self) -> bool:
        """Whether laws can be learned from it: no warm-up, and it loaded what it read."""
        return self.role not in ("warm-up", ALONE, FLOW) and not self.failure

    @property
    def counts(self) -> bool:
        """Whether it also can be held against others, which loaded as much."""
        return self.tells and self.share == 1.0

    @property
    def share(self) -> float:
        """How much of the sample it loads, about."""
        return share_of(self.role)

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
            "read": self.read.as_json(),
            "moved": self.moved,
            "requests": self.requests,
            "scanned": self.scanned,
            "waited": self.waited,
            "part_seconds": list(self.part_seconds),
            "part_bytes": list(self.part_bytes),
            "overlapped": self.overlapped,
            "rows_a_second": self.rows / self.seconds if self.seconds else 0.0,
            "bytes_a_second": self.bytes / self.seconds if self.seconds else 0.0,
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
        for name in ("part_seconds", "part_bytes"):
            kept[name] = tuple(document.get(name, ()))
        kept["used"] = Used(**document.get("used", {}))
        kept["read"] = Readings(**document.get("read", {}))
        return cls(**kept)

    @property
    def usage(self) -> Usage:
        """What it used; a compute without sizes of its own is busy but while it shapes."""
        busy = self.seconds - self.phases.get("shape", 0.0) - self.phases.get("ship", 0.0)
        return Usage(
            self.compute or (Stretch(self.configuration.tier, busy),),
            self.seconds * self.configuration.machines,
            stored=self.packed_bytes if self.configuration.transfer_streams else 0,
            requests=self.requests,
            moved=self.moved,
            scanned=self.scanned,
        )
