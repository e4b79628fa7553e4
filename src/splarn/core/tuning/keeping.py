"""The layout of files by what the rows are going to be asked: loading and reading together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from splarn.core.prices import Prices
from splarn.core.scans.foretelling import Bill
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Rule, Space
from splarn.core.tuning.deciding import choice_of
from splarn.core.tuning.model import Model
from splarn.core.tuning.plan import Choice, Limits
from splarn.core.units import exact_size, plural, show_duration, show_money

# What shapes the files of a table: their layout, and the size of the parts that become files.
SHAPING = ("file_layout", "part_size")


@dataclass(frozen=True)
class KeptChoice:
    """The best load into files of one shape, and what its rows then cost over some months.

    `cost` and `seconds` are of the load and of all that is asked later, together.
    """

    file_layout: str
    part_size: int
    space: Space
    choice: Choice
    bill: Bill
    cost: float
    seconds: float

    def as_json(self) -> dict[str, Any]:
        """What of it is worth a document."""
        load = self.choice.chosen
        return {
            "file_layout": self.file_layout,
            "part_size": self.part_size,
            "meets_limits": self.choice.meets_limits,
            "load": {"seconds": load.seconds.median, "cost": load.cost.median},
            "monthly": {
                "bytes": self.bill.read.bytes, "seconds": self.bill.seconds,
                "cost": self.bill.asking, "keeping": self.bill.keeping,
            },
            "total": {"seconds": self.seconds, "cost": self.cost},
        }  # fmt: skip


def shapes_of(space: Space) -> list[tuple[str, int]]:
    """Every layout of files with every part size that the space allows."""
    return list(dict.fromkeys((one.file_layout, one.part_size) for one in space.grid()))


def choices_by_shape(
    model: Model,
    space: Space,
    volume: Volume,
    prices: Prices,
    limits: Limits,
    bills: Mapping[tuple[str, int], Bill],
    months: float,
    joining: float = 0.0,
) -> list[KeptChoice]:
    """The best load for each shape of files, best first by what all costs over so many months.

    Those that keep the limits come before all others. Where nothing has a price, time decides.
    `joining` is as in choice_of.
    Raises RequestError for a tier that the price list does not have.
    """
    found = []
    for (layout, size), bill in bills.items():
        mine = space.without([_others(layout, size)])
        choice = choice_of(model, mine, volume, prices, limits, joining)
        load = choice.chosen
        cost = load.cost.median + months * (bill.asking + bill.keeping)
        seconds = load.seconds.median + months * bill.seconds
        found.append(KeptChoice(layout, size, mine, choice, bill, cost, seconds))
    priced = any(one.cost > 0 for one in found)
    return sorted(
        found,
        key=lambda one: (not one.choice.meets_limits, one.cost if priced else one.seconds),
    )


def _others(layout: str, size: int) -> Rule:
    return Rule(
        "files of another shape", lambda one: (one.file_layout, one.part_size) != (layout, size),
        SHAPING,
    )  # fmt: skip


def why_so_kept(choices: Sequence[KeptChoice], months: float, currency: str) -> str:
    """Why the first of several shapes was taken, for a person."""
    best, others = choices[0], choices[1:]
    priced = any(one.cost > 0 for one in choices)

    def shown(one: KeptChoice) -> str:
        return show_money(one.cost, currency) if priced else show_duration(one.seconds)

    what = f"{best.file_layout} out of {exact_size(best.part_size)} parts"
    over = f"over {months:g} month{'s' if months != 1 else ''} of the questions"
    if not others:
        return (
            f"As {what}, loading and reading {'cost' if priced else 'take'} {shown(best)} {over}."
        )
    keeping = [one for one in others if one.choice.meets_limits] or others
    worst = max(keeping, key=lambda one: one.cost if priced else one.seconds)
    dearest = f", the {'dearest' if priced else 'slowest'} {shown(worst)}" if worst is not (
        keeping[0]) else ""  # fmt: skip
    return (
        f"Of {plural(len(choices), 'shape')} of files {what} {'costs' if priced else 'takes'} "
        f"least {over}, loading included: {shown(best)}; the next best ({keeping[0].file_layout} "
        f"out of {exact_size(keeping[0].part_size)} parts) would come to {shown(keeping[0])}"
        f"{dearest}."
    )
