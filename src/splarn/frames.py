"""Trials and forecasts as pandas frames, a row each, for notebooks."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from splarn.core.errors import RequestError
from splarn.core.tuning.configuration import LEVERS, Configuration
from splarn.core.tuning.forecast import Forecast
from splarn.core.tuning.trial import Trial

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["forecasts_frame", "trials_frame"]


def trials_frame(trials: Iterable[Trial]) -> pd.DataFrame:
    """Trials, a row each in their order: levers, role, times in seconds, amounts, cores' work.

    Levers have the names of `Configuration`, and `configuration` is the object itself. `phase_load`
    and the like are seconds of each phase; NaN where a trial had none of it. `counts` says whether
    it tells of time.
    Raises RequestError where pandas is not installed.
    """
    rows = [
        {
            **_levers(one.configuration),
            "role": one.role,
            "repeat": one.repeat,
            "seconds": one.seconds,
            "overlapped_seconds": one.overlapped or None,
            **{f"phase_{name}": seconds for name, seconds in one.phases.items()},
            "rows": one.rows,
            "bytes": one.bytes,
            "packed_bytes": one.packed_bytes,
            "parts": one.parts,
            "counts": one.counts,
            "failure": one.failure,
            "started": one.started,
            "configuration": one.configuration,
        }
        for one in trials
    ]
    return _frame(rows)


def forecasts_frame(forecasts: Iterable[Forecast]) -> pd.DataFrame:
    """Forecasts, a row each in their order: levers, seconds and cost with their 90 % intervals.

    `seconds` and `cost` are medians, with `_low` and `_high` beside them. `phase_load` and the like
    are seconds of each phase. `extrapolated` names levers beyond what trials covered.
    Raises RequestError where pandas is not installed.
    """
    rows = [
        {
            **_levers(one.configuration),
            "seconds": one.seconds.median,
            "seconds_low": one.seconds.low,
            "seconds_high": one.seconds.high,
            "in_turn_seconds": one.in_turn.median,
            "cost": one.cost.median,
            "cost_low": one.cost.low,
            "cost_high": one.cost.high,
            **{f"phase_{name}": seconds for name, seconds in one.phases.items()},
            "binding_phase": one.binding_phase,
            "on_frontier": one.on_frontier,
            "extrapolated": ", ".join(one.extrapolated),
            "configuration": one.configuration,
        }
        for one in forecasts
    ]
    return _frame(rows)


def _levers(configuration: Configuration) -> dict[str, Any]:
    found = {name: getattr(configuration, name) for name in LEVERS}
    return found | {"packing": str(configuration.packing)}


def _frame(rows: list[dict[str, Any]]) -> pd.DataFrame:
    try:
        import pandas as pd
    except ImportError:
        raise RequestError(
            "Frames need pandas: install it with `pip install 'splarn[notebook]'`."
        ) from None
    return pd.DataFrame(rows)
