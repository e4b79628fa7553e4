"""How many machines for how long: what is said of a cluster's size and of what it costs to use."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from splarn.cli.tables import Column
from splarn.core.units import plural, show_duration

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.tuning.columns import Table
    from splarn.core.tuning.configuration import Space
    from splarn.core.tuning.forecast import Forecast

# By less than this share no number of machines is faster than another.
WORTH = 0.05


def say_fixed(out: Output, fixed: dict[str, Any]) -> dict[str, Any]:
    """What the cluster costs beside the work, as it was measured; returns that for JSON."""
    out.say(
        f"The cluster ({fixed['described']}) was joined in {show_duration(fixed['join_seconds'])}; "
        f"between two long parts a worker waits {show_duration(fixed['part_seconds'])}."
    )
    return fixed


def show_machines(
    out: Output,
    space: Space,
    fastest: Callable[[Table], Forecast | None],
    fixed: Mapping[str, Any] | None,
    parts: Callable[[Forecast], float],
    held_up: Callable[[Forecast], str],
    currency: str,
) -> list[dict[str, Any]]:
    """For each number of machines what the fastest configuration with it takes and costs.

    `fixed` is what a sweep measured of the cluster, `parts` how many a configuration makes,
    `held_up` what is shared and holds it up. Says where one machine does it as fast. Empty where
    there is one number only.
    """
    from splarn.core.tuning.columns import Table

    counts = sorted(space.values["machines"])
    if len(counts) < 2:
        return []
    told: list[Forecast] = []
    for count in counts:
        few = replace(space, values={**space.values, "machines": (count,)})
        table = Table.of_space(few)
        found = fastest(table) if table.count else None
        if found is not None:
            told.append(found)
    rows, documents = [], []
    first = told[0] if told else None
    for one in told:
        configuration, seconds = one.configuration, one.seconds
        paid = configuration.machines * seconds.median / 3600
        by = held_up(one)
        rows.append(
            (
                str(configuration.machines),
                show_duration(seconds.median),
                f"{show_duration(seconds.low)} – {show_duration(seconds.high)}",
                f"{one.cost.median:,.2f}" if one.cost.median else "",
                f"{paid:,.2f}",
                by or "its workers' own pace",
                "beyond the trials" if one.extrapolated else "",
            )
        )
        documents.append(
            {**one.as_json(), "machines": configuration.machines, "held_up_by": by or None}
        )
    out.say("How many machines for how long, each with its fastest configuration:")
    out.table(
        [
            ">machines", ">time", Column(">90 % interval", 3), Column(f">cost, {currency}", 1),
            Column(">machine-hours", 4), Column("held up by", 2, wraps=True), Column("", 5),
        ],
        rows,
    )  # fmt: skip
    if first is None:
        return documents
    best = min(told, key=lambda one: one.seconds.median)
    alone = first.configuration.machines == 1
    if alone and best.seconds.median > (1 - WORTH) * first.seconds.median:
        out.note("More than one machine makes it no faster: leave the cluster out.")
    elif fixed:
        waits = parts(best) / max(best.configuration.workers, 1) * float(fixed["part_seconds"])
        extra = float(fixed["join_seconds"]) + waits
        gain = first.seconds.median - best.seconds.median
        took = (
            f"Joining a cluster and waiting for parts takes {show_duration(extra)} of that, which "
            "this machine alone has not"
        )
        if alone and gain < extra:
            out.note(f"{took}: one machine would be faster, so leave the cluster out.")
        else:
            out.note(f"{took}; {plural(best.configuration.machines, 'machine')} save more.")
    return documents
