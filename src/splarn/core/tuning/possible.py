"""What of a space can be, and why the rest cannot."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from splarn.core.errors import RequestError
from splarn.core.target.levers import LoadLevers
from splarn.core.target.session import Engine, check_levers
from splarn.core.tuning.columns import Volume
from splarn.core.tuning.configuration import Configuration, Rule, Space
from splarn.core.units import plural, show_size
from splarn.core.work.pools import Pools


def rules_of_parts(space: Space, depot: bool) -> list[Rule]:
    """Parts that cannot be made, and shipping without a depot or none with one."""
    from splarn.core.source.codecs import Packing

    rules = []
    for form in space.values["format"]:
        for packing in space.values["packing"]:
            try:
                Packing.parse(str(packing), form == "parquet")
            except RequestError:
                rules.append(_rule_of_packing(form, packing))
    if depot:
        reason = "the job's depot has parts shipped, so there must be a transfer stream"
        rules.append(Rule(reason, lambda one: one.transfer_streams == 0))
    else:
        reason = "there is no depot to ship to, so there are no transfer streams: give --depot"
        rules.append(Rule(reason, lambda one: one.transfer_streams > 0))
    return rules


def _rule_of_packing(form: str, packing: object) -> Rule:
    return Rule(
        f"{form} has no codec {packing}",
        lambda one: (one.format, one.packing) == (form, packing),
    )


def rules_of_target(space: Space, engine: Engine, tiers: Sequence[str] | None) -> list[Rule]:
    """What the target lacks; `tiers` are its sizes, None where it has none to choose from."""
    rules = []
    for levers in dict.fromkeys(one.load_levers for one in space.grid()):
        try:
            check_levers(levers, engine)
        except RequestError as error:
            rules.append(_rule_of_levers(str(error).rstrip("."), levers))
    missing = [tier for tier in space.values["tier"] if tiers is not None and tier not in tiers]
    if missing:
        named = ", ".join(missing)
        reason = f"the target has no tier {named}: it has {', '.join(tiers or ())}"
        rules.append(Rule(reason, lambda one: one.tier in missing))
    return rules


def _rule_of_levers(reason: str, levers: LoadLevers) -> Rule:
    return Rule(reason, lambda one: one.load_levers == levers)


def rules_of_machines(space: Space, pools: Pools) -> list[Rule]:
    """More machines than there are, or more at work than they take, and machines without work."""
    there = pools.machines
    rules = []
    if any(machines > there for machines in space.values["machines"]):
        what = "this machine is one: give --cluster"
        if pools.away is not None:
            what = f"the cluster has {plural(there, 'machine')}"
        rules.append(Rule(what, lambda one: one.machines > there, ("machines",)))
    if pools.away is not None:
        takes = {count: pools.away.capacity(count) for count in space.values["machines"]}
        rules.append(
            Rule(
                "so many machines of the cluster do not take that many workers or streams at once",
                lambda one: max(one.workers, one.load_streams) > takes[one.machines],
                ("machines", "workers", "load_streams"),
            )
        )
    return rules


def rules_of_work(space: Space) -> list[Rule]:
    """Machines that would have nothing to do, or less than the others."""
    if max(space.values["machines"]) == 1:
        return []
    return [
        Rule(
            "a machine would have no worker and no stream",
            lambda one: min(one.workers, one.load_streams) < one.machines,
            ("machines", "workers", "load_streams"),
        )
    ]


def rules_of_volume(space: Space, tried: Volume, whole: Volume) -> list[Rule]:
    """What trials cannot show, and what is the same as another configuration at the whole.

    `tried` is the largest volume that a trial may load.
    """
    sizes = space.values["part_size"]
    # The smallest part that takes all in is one of its own; a larger one is the same.
    enough = min((size for size in sizes if size >= whole.bytes), default=None)
    is_all = tried.bytes >= 0.98 * whole.bytes
    too_large = [
        size for size in sizes if size > 1.02 * tried.bytes and not (is_all and size == enough)
    ]
    rules = []
    if too_large:
        reason = (
            f"trials load at most {show_size(tried.bytes)}, which is smaller than such a part "
            f"({', '.join(map(show_size, too_large))}): give a larger --sample or smaller parts"
        )
        rules.append(Rule(reason, lambda one: one.part_size in too_large))
    for name, words in (
        ("workers", "workers"),
        ("transfer_streams", "transfer streams"),
        ("load_streams", "load streams"),
    ):
        rules.append(
            Rule(
                f"there would be more {words} than parts, as fewer of the space already are",
                _idle(name, space.values[name], whole),
            )
        )
    rules.append(
        Rule(
            "batches would be larger than a part, as smaller ones of the space already are",
            _beyond_a_part(space.values["batch_rows"], whole),
        )
    )
    return rules


def _idle(name: str, values: Sequence[int], whole: Volume) -> Callable[[Configuration], bool]:
    def refuses(one: Configuration) -> bool:
        parts = max(-(-whole.bytes // one.part_size), 1)
        return any(parts <= value < getattr(one, name) for value in values)

    return refuses


def _beyond_a_part(batches: Sequence[int], whole: Volume) -> Callable[[Configuration], bool]:
    rows_a_byte = whole.rows / max(whole.bytes, 1)

    def refuses(one: Configuration) -> bool:
        rows = one.part_size * rows_a_byte
        if one.batch_rows <= rows:
            return False
        # 0 is the whole part.
        return any(batch == 0 or rows <= batch < one.batch_rows for batch in batches)

    return refuses
