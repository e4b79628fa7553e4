"""One measured load with one configuration."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from splarn.core.configuration import Configuration


@dataclass(frozen=True)
class Trial:
    """What one trial measured. `phases` and `seconds` are in seconds, `bytes` unpacked.

    `role` is trial, reference (the configuration that comes back to show drift) or warm-up.
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
        }

    @classmethod
    def from_json(cls, document: dict[str, Any]) -> Trial:
        """The reverse of `as_json`."""
        return cls(
            **{**document, "configuration": Configuration.from_json(document["configuration"])}
        )
