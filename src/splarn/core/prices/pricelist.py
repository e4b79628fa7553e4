"""The price list: what compute, storage, requests, transfer and scans cost, in any currency."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from splarn.core.errors import RequestError
from splarn.core.work.documents import first_wrong


class Tier(BaseModel):
    """One compute size: money an hour, and seconds.

    Time is billed in whole steps. `minimum` is owed at least, `minimum_on` every start or every
    change of size (a stretch at one size; a start is one too). `start_up` is time that is billed
    for a start and shows in no measured phase; `idle_tail` is how long the compute runs on, and is
    paid, after its last work.
    """

    model_config = ConfigDict(extra="forbid")

    per_hour: float = Field(ge=0, description="Money an hour.")
    billing_step: float = Field(default=1, gt=0, description="Seconds that are billed at a time.")
    minimum: float = Field(default=0, ge=0, description="Seconds that are billed at least.")
    minimum_on: Literal["start", "size"] = Field(
        default="start", description="Whether that is owed for every start or every change of size."
    )
    start_up: float = Field(default=0, ge=0, description="Seconds billed for a start.")
    idle_tail: float = Field(default=0, ge=0, description="Seconds billed after the last work.")


class Prices(BaseModel):
    """What things cost. A GB is 1e9 bytes, a TB 1e12, a month 730 hours.

    `machine_per_hour` is the machine that prepares and sends the parts. `keep_days` is how long
    parts stay in the depot.
    """

    model_config = ConfigDict(extra="forbid")

    currency: str = Field(default="units", description="What money is called.")
    machine_per_hour: float = Field(
        default=0, ge=0, description="The machine that prepares and sends the parts."
    )
    storage_gb_month: float = Field(default=0, ge=0, description="Parts in the depot, a GB month.")
    keep_days: float = Field(default=0, ge=0, description="How long they stay there.")
    thousand_requests: float = Field(default=0, ge=0, description="Requests to the depot.")
    gb_moved: float = Field(default=0, ge=0, description="A GB over the line.")
    tb_scanned: float = Field(default=0, ge=0, description="A TB that a rented engine reads.")
    tiers: dict[str, Tier] = Field(
        default={"u1": Tier(per_hour=0)}, description="Each size of the compute, by its name."
    )


def read_prices(path: str | Path) -> Prices:
    """Reads a price list in TOML.

    Raises RequestError naming what is missing or wrong.
    """
    path = Path(path)
    try:
        return make_prices(tomllib.loads(path.read_text(encoding="utf-8")), str(path))
    except (OSError, UnicodeDecodeError):
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
        raise RequestError(f"In {where}, {first_wrong(error, Prices)}.") from None


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
