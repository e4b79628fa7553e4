"""The demo's second act: a depot, a compute that is rented by size, and what each size gives."""

from __future__ import annotations

from pathlib import Path

from splarn.core.units import exact_size
from splarn.core.work.disk import write_text
from splarn.demo.walk import Stage

JOB_FILE = "elastic.toml"

_JOB = """\
# The same delivery, for an engine whose compute is rented by size. The addresses are those of the
# simulated services while the demo runs; `splarn standin --folder standin` starts them again.

prices = "elastic-prices.toml"

[source]
paths = ["delivery/*.csv"]
layout = "layout.json"

[target]
url = "{engine}"
table = "passages"
bad_rows = "set-aside"
read_tier = "u1"                   # what the compute has while nobody loads

[space]
part_size = ["{small}", "{large}"]
codec = ["zstd:1"]
workers = [2]
load_streams = [32]
batch_rows = [0]                   # one commit a part
tier = ["u1", "u2", "u3", "u5", "u8", "u12"]

[sweep]
sample = "{sample}"
strategy = "grid"                  # every size, to hold them against one another
repeats = 2
loads = 365                        # such a delivery comes every night, so that trying pays

[limits]
deadline = "{deadline}"
confidence = 0.9
"""

_PRICES = """\
# What rented things cost. The currency is only a name; times are in seconds.
currency = "crowns"
machine_per_hour = 0.40            # the machine that prepares and sends the parts
storage_gb_month = 0.03            # parts in the depot ...
keep_days = 7                      # ... which are kept for so long
thousand_requests = 0.005          # to the depot
gb_moved = 0.02                    # over the line
tb_scanned = 5                     # read to verify

# Larger tiers cost less a unit. Time is billed in steps of 15 seconds, and every start owes 45.
"""

# What each size costs an hour.
_LADDER = {1: 2.75, 2: 5.2, 3: 7.45, 5: 11.9, 8: 18.3, 12: 26.4, 20: 42.0, 32: 63.5}

_TIER = """
[tiers.u{units}]
per_hour = {price:.2f}
billing_step = 15
minimum = 45
minimum_on = "start"
"""


def write_elastic(folder: Path, size: int, engine: str) -> None:
    """Writes the job file and the price list, sized to so many bytes of source."""
    part = _power(max(size // 256, 16 << 10))
    sample = _power(max(size // 4, 16 * part))
    deadline = max(size / 1.2e6, 15)
    text = _JOB.format(
        engine=engine,
        small=exact_size(part),
        large=exact_size(4 * part),
        sample=exact_size(sample),
        deadline=f"{deadline:.0f}s",
    )
    write_text(folder / JOB_FILE, text)
    tiers = "".join(_TIER.format(units=units, price=price) for units, price in _LADDER.items())
    write_text(folder / "elastic-prices.toml", _PRICES + tiers)


def stages(depot: str, part_size: str, has_layout: bool) -> tuple[Stage, ...]:
    """The commands of the second act, with the depot's address; the first may have a layout."""
    job = ("--job", JOB_FILE)
    landing = f"{depot}/landing"
    reading = Stage("How do the files read?", ("layout", "--out", "layout.json", "delivery/*.csv"))
    return (
        *(() if has_layout else (reading,)),
        Stage(
            "Cut the delivery into parts, enough of them for many slots",
            (
                "shape", "--into", "elastic-parts", "--part-size", part_size, "--codec", "zstd:1",
                *job,
            ),
        ),
        Stage(
            "Ship the parts into the depot, eight streams at once",
            ("ship", "elastic-parts", "--to", landing, "--streams", "8", *job),
        ),
        Stage(
            "Load what arrived there, with a larger compute just for that",
            ("load", f"{landing}/", "--table", "passages_from_depot", "--streams", "16",
             "--tier", "u8", *job),
        ),
        Stage("What does each tier give for its money?", ("sweep", *job)),
        Stage("What would the whole delivery take?", ("forecast", "--show", "6", *job)),
        Stage(
            "The cheapest tier that keeps the deadline",
            ("plan", "--out", "elastic-plan.json", *job),
            True,
        ),
        Stage("Carry it out: up, load, down, verify", ("run", "elastic-plan.json", *job)),
        Stage("Was anything left running large?", ("doctor", *job)),
        Stage("What has it cost?", ("ledger", *job)),
        Stage(
            "All of it to show around",
            ("report", "elastic-plan.json", "--out", "elastic-report.html", *job),
        ),
    )  # fmt: skip


def _power(size: int) -> int:
    """The power of two at or below."""
    return 1 << (size.bit_length() - 1)
