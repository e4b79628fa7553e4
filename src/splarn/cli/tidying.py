"""What `ledger` does besides listing: sweeps to choose from, imports, and tidying."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from splarn.cli.tables import Column, text
from splarn.core.units import plural, show_duration, show_size

if TYPE_CHECKING:
    from splarn.cli.context import Context
    from splarn.cli.output import Output
    from splarn.core.ledger import Entry, Ledger
    from splarn.core.tidy import Leftover


def show_sweeps(out: Output, sweeps: Sequence[Entry], every: Sequence[Entry]) -> None:
    """Sweeps with their state, target, best and age, to choose from."""
    from splarn.core.tuning.configuration import Configuration

    tried: dict[str, int] = {}
    for entry in every:
        if entry.kind == "trial":
            tried[entry.parent] = tried.get(entry.parent, 0) + 1

    def best(entry: Entry) -> str:
        found = entry.document.get("best")
        if not isinstance(found, dict) or "configuration" not in found:
            return ""
        return str(Configuration.from_json(found["configuration"]))

    now = datetime.now(UTC)
    out.table(
        [
            "id",
            Column(">age", 2),
            Column("target", 4),
            "state",
            Column(">trials", 3),
            text("best"),
        ],
        (
            (
                one.id,
                _age(one.at, now),
                str(one.document.get("target", "")),
                "ended" if "stopped_because" in one.document else "open",
                str(tried.get(one.id, 0)),
                best(one),
            )
            for one in sweeps
        ),
    )
    out.say(
        f"{plural(len(sweeps), 'sweep')}; `splarn forecast --sweep ID` learns from one. An open "
        "one goes on now, or was broken off and goes on when its command is given again."
    )


def _age(at: str, now: datetime) -> str:
    try:
        then = datetime.fromisoformat(at)
    except ValueError:
        return ""
    return show_duration((now - then).total_seconds())


def clear_up(context: Context, book: Ledger, yes: bool) -> dict[str, Any]:
    """Shows what was left by what did not end, and removes it once that is agreed to."""
    from splarn.core.tidy import left_here

    # The target's claims are kept until all is removed, so that no such sweep goes on meanwhile.
    with ExitStack() as kept:
        found = [*left_here(context.job.folder, book), *_in_target(context, kept)]
        return _clear(context.out, found, yes)


def _clear(out: Output, found: Sequence[Leftover], yes: bool) -> dict[str, Any]:
    from splarn.cli.load import agreed

    told = [{"what": one.what, "where": one.where, "bytes": one.bytes} for one in found]
    if not found:
        out.say("Nothing is left of sweeps, runs or shapes that did not end.")
        return {"left": told, "removed": False}
    out.table(
        [text("what"), text("where"), Column(">size", 1)],
        ((one.what, one.where, show_size(one.bytes) if one.bytes else "") for one in found),
    )
    out.note(
        "A run or shape that did not end can go on with what it left: give its command again "
        "instead, where you want that."
    )
    agreement = agreed(f"Remove {plural(len(found), 'leftover')}?", yes, out.as_json)
    if agreement:
        for one in found:
            one.remove()
        out.good(f"Removed {plural(len(found), 'leftover')}.")
    else:
        out.say("Nothing was removed: --yes agrees to it.")
    return {"left": told, "removed": agreement}


def _in_target(context: Context, kept: ExitStack) -> list[Leftover]:
    """What sweeps left in the job's target; its claims are kept for as long as `kept` is open."""
    from contextlib import closing
    from functools import partial

    from splarn.core.source.secrets import filled
    from splarn.core.tidy import left_in_target
    from splarn.depots.landing import DepotLanding
    from splarn.engines import opener

    if not context.job.target.url:
        context.out.say("The job names no target, so none was looked at.")
        return []
    open_engine = opener(context.target(None))
    depot = context.depot()
    landing = None if depot is None else partial(DepotLanding, filled(depot, "The depot"))
    keeper = kept.enter_context(closing(open_engine().connect()))
    return left_in_target(open_engine, keeper, landing)
