"""What if: another volume, line, price list or crowd than the one that was measured."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from splarn.core.prices import Prices
from splarn.core.tuning.columns import MB, Floats, Volume
from splarn.core.tuning.laws import Law


@dataclass(frozen=True)
class WhatIf:
    """What is supposed. None and 1 leave things as they were measured.

    `link` is the line that all senders share, bytes a second; `price_factor` what all prices are
    multiplied with; `files` into how many files the same volume is divided; `readers` the share of
    the target that is taken by others while rows come in.
    """

    link: float | None = None
    price_factor: float = 1.0
    files: int | None = None
    readers: float = 0.0

    def volume(self, volume: Volume) -> Volume:
        """The volume in that many files."""
        if self.files is None:
            return volume
        return replace(volume, files=(volume.bytes / self.files,) * self.files)

    def prices(self, prices: Prices) -> Prices:
        """Prices times the factor."""
        if self.price_factor == 1:
            return prices
        by = self.price_factor
        tiers = {
            name: one.model_copy(update={"per_hour": one.per_hour * by})
            for name, one in prices.tiers.items()
        }
        money = (
            "machine_per_hour", "storage_gb_month", "thousand_requests", "gb_moved", "tb_scanned",
        )  # fmt: skip
        changed = {name: getattr(prices, name) * by for name in money}
        return prices.model_copy(update={**changed, "tiers": tiers})

    def theta(self, law: Law, theta: Floats) -> Floats:
        """Draws of a law's parameters, of which the line's is known."""
        if self.link is None or law.phase.name != "ship":
            return theta
        first, _, _ = law.slots["line s a packed MB"]
        changed = theta.copy()
        changed[:, first] = np.log(MB / self.link)
        return changed

    def seconds(self, phase: str, seconds: Floats) -> Floats:
        """Seconds of a phase, longer where others take their share of the target."""
        return seconds / (1 - self.readers) if phase == "load" and self.readers else seconds

    def words(self) -> list[str]:
        """What is supposed, for a person."""
        from splarn.core.units import show_size

        return [
            text
            for text in (
                "" if self.link is None else f"a line of {show_size(self.link)} a second",
                f"prices times {self.price_factor:g}" if self.price_factor != 1 else "",
                f"{self.files:,} files of one size" if self.files is not None else "",
                f"readers who take {self.readers:.0%} of the target" if self.readers else "",
            )
            if text
        ]


AS_IT_IS = WhatIf()
