"""How a run will end, from its forecast and from how its stages have gone so far."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from math import erf, exp, hypot, log, sqrt
from typing import Any

from splarn.core.flow.watching import Stand
from splarn.core.tuning.overlap import STAGES

# A forecast counts as much as so great a share of a stage's work, once that is seen.
WEIGHT = 0.02
# How far off the pace may still be of a stage that does not go as forecast: so great a share of the
# log of by how much, as much as is left of it.
PACE = 0.3
# What is left of a run is never surer than this, a spread of logs.
LEAST_SPREAD = 0.05
# Half of a normal 90 % interval, in standard deviations.
Z90 = 1.645
# A stage is worth a word once so much of it is done and it is so much slower than forecast.
SEEN, SLOWER = 0.05, 1.1


@dataclass(frozen=True)
class Outlook:
    """What a run will take, in seconds from its beginning, with a 90 % interval.

    `left` are seconds from now. `chance` is that of keeping the deadline, None without one.
    `remaining` are the seconds that each stage still has to do, `binding` the one with most. It is
    `slow` where it makes the run longer than forecast, by the factor `by`; both are empty for none.
    """

    total: float
    low: float
    high: float
    left: float
    chance: float | None
    slow: str = ""
    by: float = 1.0
    binding: str = ""
    remaining: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Since:
    """From where a stage is judged anew, since it goes on with something else than before.

    `seconds` is what the whole of its work would take from then on, by what was known there.
    """

    stand: Stand
    seconds: float


def outlook(
    forecast: Mapping[str, Any],
    stands: Mapping[str, Stand],
    elapsed: float,
    deadline: float | None = None,
    since: Mapping[str, Since] | None = None,
) -> Outlook:
    """How a run will end of which `elapsed` seconds have gone by.

    `forecast` is a plan's: its phases, and the interval of all. Each stage goes on as it has gone,
    the forecast being part of what is known of that.
    """
    phases = {name: float(seconds) for name, seconds in forecast["phases"].items()}
    expected = float(forecast["seconds"]["median"])
    spread = log(max(forecast["seconds"]["high"] / max(forecast["seconds"]["low"], 1e-9), 1.0))
    spread = max(spread / (2 * Z90), LEAST_SPREAD)
    whole: dict[str, float] = {}
    remaining: dict[str, float] = {}
    for name in STAGES:
        if name not in phases:
            continue
        stand = stands.get(name, Stand(0.0, 0.0))
        share = min(max(stand.share, 0.0), 1.0)
        anew = (since or {}).get(name, Since(Stand(0.0, 0.0), phases[name]))
        seen = max(share - anew.stand.share, 0.0)
        spent = max(stand.seconds - anew.stand.seconds, 0.0)
        whole[name] = (spent + WEIGHT * anew.seconds) / (seen + WEIGHT)
        remaining[name] = whole[name] * (1 - share)
    after = phases.get("finish", 0.0)
    if remaining:
        slowest = max(remaining, key=lambda name: remaining[name])
        off = abs(log(max(whole[slowest], 1e-9) / max(phases[slowest], 1e-9)))
        spread = hypot(spread, PACE * off * remaining[slowest] / max(whole[slowest], 1e-9))
    begun = any(stand.share for stand in stands.values())
    left = max(remaining.values(), default=0.0) + after if begun else expected - elapsed
    left = max(left, 0.0)
    total = elapsed + left
    slow, by, binding = "", 1.0, ""
    if begun and remaining:
        binding = max(remaining, key=lambda name: remaining[name])
        ratio = whole[binding] / max(phases[binding], 1e-9)
        if stands.get(binding, Stand(0, 0)).share >= SEEN and ratio >= SLOWER:
            slow, by = binding, ratio
    chance = None
    if deadline is not None:
        room = deadline - elapsed
        chance = 0.0
        if room > 0:
            chance = 1.0 if left <= 0 else _below(log(room / left) / spread)
    return Outlook(
        total, elapsed + left * exp(-Z90 * spread), elapsed + left * exp(Z90 * spread), left,
        chance, slow, by, binding, remaining,
    )  # fmt: skip


def _below(distance: float) -> float:
    """The normal distribution."""
    return 0.5 * (1 + erf(distance / sqrt(2)))
