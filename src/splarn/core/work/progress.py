"""How long work tells whoever watches what it is doing, without knowing who that is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol


@dataclass(frozen=True)
class Lane:
    """One of several at work at once: what it is at, and what it has done in this stage so far.

    `amount` is in the stage's unit. An empty label means that it has nothing to do.
    """

    label: str
    amount: float
    rows: int


class Progress(Protocol):
    """A watcher of long work. Amounts are in the unit that `start` names, if it names one."""

    def start(self, label: str, total: float | None, unit: str) -> None:
        """A stage begins; `total` is None where the end is not known."""

    def advance(self, amount: float) -> None:
        """So much more of the current stage is done."""

    def lanes(self, lanes: Sequence[Lane]) -> None:
        """What each of those at work has come to; told every now and then."""

    def tell(self, text: str) -> None:
        """Something that the one who waits should know now."""

    def status(self, text: str) -> None:
        """How the stage stands, in place of what was said of it before."""

    def finish(self) -> None:
        """The current stage is over."""


class Silent:
    """A watcher that looks away; what tests and `--json` use."""

    def start(self, label: str, total: float | None, unit: str) -> None:
        return None

    def advance(self, amount: float) -> None:
        return None

    def lanes(self, lanes: Sequence[Lane]) -> None:
        return None

    def tell(self, text: str) -> None:
        return None

    def status(self, text: str) -> None:
        return None

    def finish(self) -> None:
        return None
