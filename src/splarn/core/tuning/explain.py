"""Where a forecast's time comes from, and what the trials say of each parameter, in plain words."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from splarn.core.tuning.columns import Floats, Table, Volume
from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.laws import CORES, FED, LINE
from splarn.core.tuning.model import Model, PhaseFit

# The log of a parameter that takes no time, and of one that never holds anything up.
NONE, ENDLESS = -40.0, 40.0
# A parameter of which trials left this much of what was thought before is not known by them.
UNTOLD = 0.7
DRAWS, SEED = 400, 21

# What each phase's seconds are made of: words, and the parameters without which they would not be.
# What slows work is taken away first, so that the rest is what it takes alone.
CAUSES: dict[str, tuple[tuple[str, tuple[str, ...]], ...]] = {
    "shape": (
        ("workers slowing one another", ("contention", "coherency")),
        ("each machine's own line", (LINE,)),
        ("the line that the store has for all", ("store's line s a MB",)),
        ("packing", ("packing s a MB",)),
        ("reading and cutting", ("cutting s a MB",)),
        ("each part, beside its bytes", ("overhead s a part",)),
        ("before the first part", ("start s",)),
    ),
    "ship": (
        ("senders slowing one another", ("contention", "coherency")),
        ("each machine's own line", (LINE,)),
        ("the line that all senders share", ("line s a packed MB",)),
        ("bytes over one sender's line", ("sending s a packed MB",)),
        ("each part, beside its bytes", ("s a part",)),
        ("before the first part", ("start s",)),
    ),
    "size": (("giving the compute its size, and back", ("there and back s",)),),
    "queue": (
        ("noting each part", ("s a part",)),
        ("waiting to be let in", ("start s",)),
    ),
    "load": (
        ("streams slowing one another", ("contention", "coherency", CORES, "crowding")),
        ("streams of one machine slowing one another", (FED,)),
        ("each machine's own line", (LINE,)),
        ("what all streams share", ("shared s a MB", "line s a packed MB")),
        ("the table growing", ("growth",)),
        ("making batches durable", ("s a commit",)),
        ("unpacking", ("unpacking s a MB",)),
        ("fetching packed bytes", ("pulling s a packed MB",)),
        ("reading and storing rows", ("s a row",)),
        ("each part, before its first row", ("overhead s a part",)),
    ),
    "finish": (
        ("proving rows", ("s a row",)),
        ("the rest of finishing", ("start s",)),
    ),
}

# What single parameters say, `{}` standing for their value.
SAYINGS: dict[str, dict[str, str]] = {
    "shape": {
        "overhead s a part": "making a part costs {} beside its bytes",
        "contention": "each further worker on a machine slows all there by {}",
        LINE: "a machine's line takes {} for a MB",
        "store's line s a MB": "the store takes {} for a MB, whoever asks",
        "cutting s a MB": "reading and cutting takes {} a MB",
    },
    "ship": {
        "s a part": "sending a part costs {} beside its bytes",
        "sending s a packed MB": "one sender takes {} for a packed MB",
        "line s a packed MB": "all senders together take no less than {} for a packed MB",
        "contention": "each further sender on a machine slows all there by {}",
        LINE: "a machine's line takes {} for a packed MB",
    },
    "size": {"there and back s": "giving the compute its size and back takes {}"},
    "queue": {"start s": "a load waits {} to be let in"},
    "load": {
        "overhead s a part": "a part costs {} before its first row",
        "s a row": "a row costs {}",
        "s a commit": "making a batch durable costs {}",
        "pulling s a packed MB": "a stream takes {} to fetch a packed MB",
        "contention": "each further stream slows all by {}",
        CORES: "the target serves {} streams at full speed",
        FED: "a machine feeds {} streams at full speed",
        LINE: "a machine's line takes {} for a packed MB",
        "shared s a MB": "all streams together take no less than {} for a MB",
        "line s a packed MB": "a packed MB takes the line, shared by all streams, {}",
    },
    "finish": {
        "start s": "finishing takes {} whatever was loaded",
        "s a row": "proving a row costs {}",
    },
}
# Trials with more than one value of these would tell a parameter.
TELLS = {
    "s a commit": "batch rows", CORES: "load streams", "contention": "load streams",
    "overhead s a part": "part sizes", "s a part": "part sizes", "unpacking s a MB": "codecs",
    "pulling s a packed MB": "codecs", "packing s a MB": "codecs",
    "line s a packed MB": "codecs and load streams", "shared s a MB": "load streams",
    LINE: "machines", FED: "machines", "store's line s a MB": "machines",
}  # fmt: skip
# What those at work have in common, and from what share of the time on it is worth a word.
SHARED = (
    "each machine's own line", "the line that the store has for all",
    "the line that all senders share", "what all streams share", "streams slowing one another",
    "streams of one machine slowing one another", "workers slowing one another",
)  # fmt: skip
WORTH_A_WORD = 0.1
# What works at once in each phase.
AT_ONCE = {"shape": "workers", "ship": "transfer streams"}


@dataclass(frozen=True)
class Cause:
    """A piece of a phase's time, in seconds."""

    phase: str
    words: str
    seconds: float


@dataclass(frozen=True)
class Finding:
    """What trials say of a parameter: words with its value left out, and a 90 % interval.

    `unit` is s, share or count. `told` is whether trials say more than was thought before them;
    where not, `would_tell` names the levers of which further values would.
    """

    phase: str
    words: str
    low: float
    median: float
    high: float
    unit: str
    told: bool
    would_tell: str


def causes(model: Model, configuration: Configuration, volume: Volume) -> list[Cause]:
    """What a configuration's time is made of: pieces that add up to it, the longest first."""
    columns = model.columns(Table.of([configuration]), volume)
    found = []
    for fitted in model.phases:
        theta = fitted.theta.copy()
        before = _seconds(fitted, columns, theta)
        for words, names in CAUSES[fitted.law.phase.name]:
            for name in names:
                first, count, _ = fitted.law.slots[name]
                theta[first : first + count] = ENDLESS if name in (CORES, FED) else NONE
            after = _seconds(fitted, columns, theta)
            found.append(Cause(fitted.law.phase.name, words, max(before - after, 0.0)))
            before = after
    return sorted(found, key=lambda one: -one.seconds)


def held_up(model: Model, configuration: Configuration, volume: Volume) -> str:
    """What is shared and holds most of the time up, in words; empty where it is nothing's share.

    Further machines help as long as it is empty, or their own lines.
    """
    every = causes(model, configuration, volume)
    whole = sum(cause.seconds for cause in every)
    shared = [cause for cause in every if cause.words in SHARED]
    return shared[0].words if shared and shared[0].seconds > WORTH_A_WORD * whole else ""


def _tells(phase: str, name: str) -> str:
    return TELLS.get(name, "").replace("load streams", AT_ONCE.get(phase, "load streams"))


def _seconds(fitted: PhaseFit, columns: object, theta: Floats) -> float:
    return float(fitted.law.seconds(columns, theta[None, :])[0, 0])  # type: ignore[arg-type]


def findings(model: Model) -> list[Finding]:
    """What the trials say of the parameters that have words."""
    random = np.random.default_rng(SEED)
    found = []
    for fitted in model.phases:
        draws = fitted.draws(DRAWS, random)
        for name, words in SAYINGS[fitted.law.phase.name].items():
            first, count, _ = fitted.law.slots[name]
            for place in range(first, first + count):
                low, median, high = np.exp(np.quantile(draws[:, place], [0.05, 0.5, 0.95])).tolist()
                told = float(draws[:, place].std()) < UNTOLD * float(fitted.law.spread[place])
                unit = "share" if name == "contention" else "count" if name in (CORES, FED) else "s"
                found.append(
                    Finding(
                        fitted.law.phase.name, words, low, median, high, unit, told,
                        "" if told else _tells(fitted.law.phase.name, name),
                    )
                )  # fmt: skip
    return found
