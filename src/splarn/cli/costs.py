"""Costs as people read them: items, sums, and what each tier gave for its money."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from splarn.cli.tables import Column

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.ledger import Entry
    from splarn.core.prices import Prices
    from splarn.core.tuning.trial import Trial

ITEMS = {
    "compute": "compute",
    "machine": "this machine",
    "storage": "storage",
    "requests": "requests",
    "transfer": "transfer",
    "scans": "scans",
}


# A larger tier that loads not even this many times as fast is hardly larger.
WORTH_IT = 1.2


def show_cost(out: Output, priced: dict[str, Any], machines: int = 1) -> None:
    """The cost of a piece of work with its items; nothing without a price list."""
    from splarn.core.units import plural, show_money

    if not priced:
        return
    cost, currency = priced["cost"], priced["currency"]
    words = ITEMS if machines == 1 else {**ITEMS, "machine": plural(machines, "machine")}
    items = [f"{word} {show_money(cost[item])}" for item, word in words.items() if cost[item]]
    total = show_money(cost["total"], currency)
    out.say(f"Cost: {total}" + (f" ({', '.join(items)})." if len(items) > 1 else "."))


def show_tiers(out: Output, trials: Sequence[Trial], prices: Prices) -> list[dict[str, Any]]:
    """The tiers of a sweep beside one another; returns the rows, none where it had one tier."""
    from dataclasses import asdict
    from itertools import pairwise

    from splarn.core.errors import RequestError
    from splarn.core.tuning.tiers import by_tier
    from splarn.core.units import plural, show_duration, show_money

    try:
        tiers = by_tier(trials, prices)
    except RequestError as error:
        out.note(f"What tiers cost is not known: {error}")
        return []
    if tiers is None:
        return []
    bare, rows = tiers
    out.say()
    out.say(
        f"What each tier gave, with {bare.show('part_size')} parts, {bare.packing} and "
        f"{plural(bare.load_streams, 'stream')}:"
    )
    out.table(
        [
            "tier",
            ">load",
            ">speed-up",
            Column(">efficiency", 1),
            Column(">whole trial", 2),
            f">cost, {prices.currency}",
            Column(">times the cost", 3),
        ],
        (
            (
                row.tier,
                show_duration(row.load_seconds),
                f"{row.speed_up:.2f}×",
                f"{row.efficiency:.0%}",
                show_duration(row.seconds),
                show_money(row.cost),
                f"{row.cost_ratio:.2f}×" if row.cost_ratio else "",
            )
            for row in rows
        ),
    )
    for row, larger in pairwise(rows):
        if larger.speed_up < WORTH_IT * row.speed_up:
            out.say(
                f"From {row.tier} to {larger.tier} loading gains "
                f"{max(larger.speed_up / row.speed_up - 1, 0):.0%}: there are too few parts or "
                "streams for the slots, or they are in one another's way."
            )
            break
    return [asdict(row) for row in rows]


def summed(entries: Sequence[Entry]) -> dict[str, dict[str, float]]:
    """The costs of entries by currency and kind; a run's own load is part of the run."""
    sums: dict[str, dict[str, float]] = {}
    for entry in entries:
        cost = entry.document.get("cost")
        if isinstance(cost, dict) and "total" in cost:
            by_kind = sums.setdefault(entry.document.get("currency", "units"), {})
            by_kind[entry.kind] = by_kind.get(entry.kind, 0.0) + float(cost["total"])
    return sums


def cost_of_entry(entry: Entry, with_unit: bool = True) -> str:
    """What an entry cost, empty where that is not known."""
    from splarn.core.units import show_money

    cost = entry.document.get("cost")
    if not isinstance(cost, dict) or "total" not in cost:
        return ""
    unit = entry.document.get("currency", "units") if with_unit else ""
    return show_money(float(cost["total"]), unit)
