"""Side-by-side ratios: Splarn against what one would otherwise use, both in one run."""
