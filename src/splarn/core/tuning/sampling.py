"""Draws from what is still possible of a law's parameters, where the likeliest is only a beginning.

A limit that did not hold in any trial is only known not to be lower: no normal distribution around
the likeliest value says that. So many chains begin with draws from Laplace's approximation and move
by one another's differences (ter Braak 2006), one half by the other's so that each step is a valid
one (Goodman and Weare 2010).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from splarn.core.tuning.columns import Floats

STEPS = 18
# The length of a step that is best where all is normal, in differences of two chains.
LENGTH = 2.38
# Every so manieth step is of a whole difference, which leads from one summit to another.
LEAP_EVERY = 6
JITTER = 1e-3

# Candidates of shape (k, parameters) to the logs of how likely they are, up to a constant.
Likely = Callable[[Floats], Floats]


def draws_of(
    likely: Likely, theta: Floats, covariance: Floats, count: int, random: np.random.Generator
) -> Floats:
    """Draws of parameters, shape (count, parameters), by how likely data and priors make them.

    `theta` is the likeliest and `covariance` Laplace's around it.
    """
    size = len(theta)
    root = np.linalg.cholesky(covariance + 1e-12 * np.eye(size))
    normal = random.standard_normal((count, size))
    chains: Floats = theta + normal @ root.T
    logs = likely(chains)
    # Chains that begin where nothing is likely begin again where others are.
    weights = logs + 0.5 * (normal**2).sum(axis=1)
    weights = np.exp(np.clip(weights - np.nanmax(weights), -700, 0))
    # Few that are far likelier than thought must not take all places.
    weights = np.minimum(weights, np.sqrt(count) * weights.mean())
    picked = random.choice(count, count, p=weights / weights.sum())
    chains, logs = chains[picked], logs[picked]
    if count < 4:
        return chains
    half = count // 2
    sides = (np.arange(half), np.arange(half, count))
    for step in range(STEPS):
        length = 1.0 if step % LEAP_EVERY == LEAP_EVERY - 1 else LENGTH / np.sqrt(2 * size)
        for mine, others in (sides, sides[::-1]):
            one, two = others[random.integers(len(others), size=(2, len(mine)))]
            moved = chains[mine] + length * (chains[one] - chains[two])
            moved += JITTER * random.standard_normal(moved.shape)
            found = likely(moved)
            taken = np.log(random.uniform(size=len(mine))) < found - logs[mine]
            chains[mine[taken]], logs[mine[taken]] = moved[taken], found[taken]
    return chains
