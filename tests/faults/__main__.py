"""`python -m tests.faults --rounds N`: rounds of faults, told by their number; see `rounds`."""

from __future__ import annotations

import argparse
import multiprocessing
import os
import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor, as_completed

from tests.faults.rounds import ROUNDS
from tests.faults.run import begin_worker, run_round
from tests.faults.world import own_databases


def main() -> int:
    """Runs the rounds asked for; 1 when something did not hold."""
    parser = argparse.ArgumentParser(prog="python -m tests.faults", description=__doc__)
    parser.add_argument("--rounds", type=int, default=100)
    parser.add_argument("--first", type=int, default=1, help="number of the first round")
    parser.add_argument("--seed", type=int, help="run this one round alone")
    parser.add_argument("--only", choices=[one.__name__ for _, one in ROUNDS])
    parser.add_argument("--jobs", type=int, default=(os.cpu_count() or 1) + 1)
    given = parser.parse_args()
    seeds = range(given.first, given.first + given.rounds)
    with own_databases() as servers:
        print(f"Targets: sqlite, duckdb, {', '.join(servers) or 'no servers'}.", flush=True)
        if given.seed is not None:
            begin_worker(servers)
            seed, name, wrong, seconds = run_round(given.seed, given.only)
            print(f"{seed} {name} {seconds:.1f} s: {wrong or 'holds'}")
            return int(bool(wrong))
        begun, told, failed = time.monotonic(), Counter[str](), 0
        context = multiprocessing.get_context("spawn")
        with ProcessPoolExecutor(given.jobs, context, begin_worker, (servers,)) as pool:
            tasks = [pool.submit(run_round, seed, given.only) for seed in seeds]
            for task in as_completed(tasks):
                seed, name, wrong, seconds = task.result()
                told[name] += 1
                if wrong:
                    failed += 1
                    print(f"{seed} {name} {seconds:.1f} s: {wrong}", flush=True)
    print(", ".join(f"{name} {count}" for name, count in sorted(told.items())))
    print(f"{sum(told.values()) - failed} passed, {failed} failed "
          f"in {time.monotonic() - begun:.0f} s")  # fmt: skip
    return int(bool(failed))


if __name__ == "__main__":
    sys.exit(main())
