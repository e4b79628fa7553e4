"""Prices: the price list, and the exact reckoning of what was used."""

from splarn.core.prices.pricelist import Prices, Tier, make_prices, read_prices, tier_of
from splarn.core.prices.reckoning import Cost, Stretch, Usage, billed_seconds, reckon

__all__ = [
    "Cost", "Prices", "Stretch", "Tier", "Usage", "billed_seconds", "make_prices", "read_prices",
    "reckon", "tier_of",
]  # fmt: skip
