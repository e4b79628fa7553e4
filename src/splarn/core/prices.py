"""The price list, and what a load costs by it."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from splarn.core.errors import RequestError


class Tier(BaseModel):
    """One compute size. Times are in seconds."""

    model_config = ConfigDict(extra="forbid")

    per_hour: float = Field(ge=0)
    billing_step: float = Field(default=1, gt=0)
    minimum: float = Field(default=0, ge=0)
    start_up: float = Field(default=0, ge=0)


class Prices(BaseModel):
    """What things cost. `machine_per_hour` is the machine that prepares and sends the parts."""

    model_config = ConfigDict(extra="forbid")

    currency: str = "units"
    machine_per_hour: float = Field(default=0, ge=0)
    tiers: dict[str, Tier] = {"u1": Tier(per_hour=0)}


@dataclass(frozen=True)
class Cost:
    """An amount by item, in the price list's currency."""

    compute: float
    machine: float

    @property
    def total(self) -> float:
        """All items together."""
        return self.compute + self.machine


def read_prices(path: Path) -> Prices:
    """Reads a price list in TOML.

    Raises RequestError naming what is missing or wrong.
    """
    try:
        return make_prices(tomllib.loads(path.read_text(encoding="utf-8")), str(path))
    except OSError:
        raise RequestError(
            f"There is no price list {path}: write one or take `prices` out of the job file."
        ) from None
    except tomllib.TOMLDecodeError as error:
        raise RequestError(f"The price list {path} is not valid TOML: {error}.") from None


def make_prices(document: dict[str, Any], where: str) -> Prices:
    """A price list from a dictionary; `where` names its origin in errors.

    Raises RequestError naming what is wrong.
    """
    try:
        return Prices.model_validate(document)
    except ValidationError as error:
        first = error.errors()[0]
        key = ".".join(str(piece) for piece in first["loc"])
        raise RequestError(f"In {where}, {key}: {first['msg'].lower()}.") from None


def tier_of(prices: Prices, name: str) -> Tier:
    """A tier by name.

    Raises RequestError when the price list does not have it.
    """
    tier = prices.tiers.get(name)
    if tier is None:
        raise RequestError(
            f"The tier {name!r} is not in the price list: use {', '.join(prices.tiers)}."
        )
    return tier


def billed_seconds(tier: Tier, busy: Any) -> Any:
    """Seconds that are paid for `busy` ones: start-up added, minimum kept, steps filled up."""
    seconds = np.maximum(np.asarray(busy, dtype=float) + tier.start_up, tier.minimum)
    # A hair under a step's end, so that 60.0000001 from arithmetic is not a further step.
    return np.ceil(seconds / tier.billing_step - 1e-9) * tier.billing_step


def cost_of(prices: Prices, tier_name: str, busy: float, total: float) -> Cost:
    """The cost of one load that kept the tier busy and took so long in total, both in seconds.

    Raises RequestError for an unknown tier.
    """
    tier = tier_of(prices, tier_name)
    compute = float(billed_seconds(tier, busy)) / 3600 * tier.per_hour
    return Cost(compute, total / 3600 * prices.machine_per_hour)
