"""Faults: the built program against kills, cut lines, changing files, other actors, odd targets.

Each round is made from one number, and what must hold is asked by plain SQL and of the files on
disk, never of Splarn's own words. `python -m tests.faults --rounds 1000` runs them all,
`--seed 417` one round again.
"""
