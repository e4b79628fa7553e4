"""What if: another volume, line, price list or crowd than the one that was measured."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from splarn.core.errors import RequestError
from splarn.core.prices import Prices
from splarn.core.tuning.columns import MB, Floats, Volume
from splarn.core.tuning.laws import Law
from splarn.core.units import parse_share

SEED = 21


@dataclass(frozen=True)
class WhatIf:
    """What is supposed. None and 1 leave things as they were measured.

    `link` is the line that all senders share, bytes a second; `price_factor` what all prices are
    multiplied with; `files` into how many files the same volume is divided; `readers` the least and
    the most of the target, a share, that is taken by others while rows come in.
    """

    link: float | None = None
    price_factor: float = 1.0
    files: int | None = None
    readers: tuple[float, float] = (0.0, 0.0)

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
        """Seconds of a phase, shape (configurations, draws), longer where others take their share.

        Nobody knows when they come, so each draw has another share, all between the two alike.
        """
        least, most = self.readers
        if phase != "load" or not most:
            return seconds
        even = (np.arange(seconds.shape[1]) + 0.5) / seconds.shape[1]
        taken = least + (most - least) * np.random.default_rng(SEED).permutation(even)
        found: Floats = seconds / (1 - taken)
        return found

    def words(self) -> list[str]:
        """What is supposed, for a person."""
        from splarn.core.units import show_size

        return [
            text
            for text in (
                "" if self.link is None else f"a line of {show_size(self.link)} a second",
                f"prices times {self.price_factor:g}" if self.price_factor != 1 else "",
                f"{self.files:,} files of one size" if self.files is not None else "",
                f"readers who take {_span(*self.readers)} of the target" if self.readers[1] else "",
            )
            if text
        ]


def _span(least: float, most: float) -> str:
    return f"{least:.0%}" if least == most else f"{least:.0%} to {most:.0%}"


def parse_shares(text: str) -> tuple[float, float]:
    """A share such as `0.4`, or the least and the most as in `0.2..0.6`.

    Raises RequestError for what is neither.
    """
    least, dots, most = text.partition("..")
    shares = parse_share(least), parse_share(most if dots else least)
    if shares[0] > shares[1]:
        raise RequestError(f"{text!r} begins with the larger share; write it like 0.2..0.6.")
    return shares


AS_IT_IS = WhatIf()
