"""How long work tells whoever watches what it is doing, without knowing who that is."""

from __future__ import annotations

from typing import Protocol


class Progress(Protocol):
    """A watcher of long work. Amounts are in the unit that `start` names."""

    def start(self, label: str, total: float | None, unit: str) -> None:
        """A stage begins; `total` is None where the end is not known."""

    def advance(self, amount: float) -> None:
        """So much more of the current stage is done."""

    def finish(self) -> None:
        """The current stage is over."""


class Silent:
    """A watcher that looks away; what tests and `--json` use."""

    def start(self, label: str, total: float | None, unit: str) -> None:
        return None

    def advance(self, amount: float) -> None:
        return None

    def finish(self) -> None:
        return None
