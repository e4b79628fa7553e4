"""What the laws leave out: a smooth error over the levers, learned from what trials left over.

A Gaussian process over the logs of a phase's seconds, as Kennedy and O'Hagan 2001 ("Bayesian
Calibration of Computer Models") add one to a model that is known to be wrong somewhere. Its size
and the noise of trials are those that make the leftovers likeliest, drawn towards none.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from splarn.core.tuning.configuration import Configuration
from splarn.core.tuning.laws import KINDS, Floats
from splarn.core.units import tier_units

# Over so many doublings of a lever the error may become another.
DOUBLINGS = 2.0
FEATURES = 300
# How far apart two codecs or ways of writing are, in the same measure.
APART = 1.0
SIZES = (0.0, 0.02, 0.04, 0.08, 0.16, 0.32, 0.64)
NOISES = (0.01, 0.02, 0.04, 0.08, 0.16)
# An error of this size is less likely than none by a factor of e, before anything is seen.
DOUBT = 0.2


@dataclass(frozen=True)
class Discrepancy:
    """The error of one phase's law over configurations.

    `places` are those that were tried, shape (tried, features), `root` the Cholesky root of their
    covariance with noise, `weights` what the leftovers make of it. `size` is the spread before any
    trial, `noise` that of a trial.
    """

    places: Floats
    root: Floats
    weights: Floats
    size: float
    noise: float

    def at(self, places: Floats) -> Floats:
        """The error that is likeliest at these places, shape (n,)."""
        if not self.size:
            return np.zeros(len(places))
        found: Floats = self.size**2 * alike(places, self.places) @ self.weights
        return found

    def draws(self, places: Floats, count: int, random: np.random.Generator) -> Floats:
        """Errors that are still possible, shape (n, count).

        A draw from before any trial, by random features (Rahimi and Recht 2007), is moved by what
        the trials showed other than it has (Matheron's rule; Wilson and others 2020).
        """
        if not self.size:
            return np.zeros((len(places), count))
        waves = random.standard_normal((places.shape[1], FEATURES))
        shifts = random.uniform(0, 2 * np.pi, FEATURES)
        heights = self.size * (2 / FEATURES) ** 0.5 * random.standard_normal((FEATURES, count))
        here = np.cos(places @ waves + shifts) @ heights
        tried = np.cos(self.places @ waves + shifts) @ heights
        tried = tried + self.noise * random.standard_normal(tried.shape)
        moved = np.linalg.solve(self.root.T, np.linalg.solve(self.root, tried))
        across = self.size**2 * alike(places, self.places)
        drawn: Floats = here + across @ (self.weights[:, None] - moved)
        return drawn


def places_of(configurations: Sequence[Configuration], rows_a_byte: float) -> Floats:
    """Where configurations lie: numbers by their doublings, kinds by columns of their own.

    Shape (n, features). A batch is no larger than a part.
    """
    kinds = sorted({(kind, value(one)) for one in configurations for kind, value in KINDS.items()})
    rows = []
    for one in configurations:
        part_rows = max(one.part_size * rows_a_byte, 1.0)
        batch = min(one.batch_rows or part_rows, part_rows)
        numbers = [
            one.part_size,
            one.workers,
            one.load_streams,
            batch,
            max(tier_units(one.tier), 1),
        ]
        here = {(kind, value(one)) for kind, value in KINDS.items()}
        rows.append(
            [float(np.log2(number)) / DOUBLINGS for number in numbers]
            + [APART / 2**0.5 * (kind in here) for kind in kinds]
        )
    return np.array(rows, dtype=float)


def alike(some: Floats, others: Floats) -> Floats:
    """How much the errors at two places have in common, 0 to 1; shape (some, others)."""
    squares = (some**2).sum(1)[:, None] + (others**2).sum(1)[None, :] - 2 * some @ others.T
    found: Floats = np.exp(-0.5 * np.maximum(squares, 0))
    return found


def learn(places: Floats, left: Floats) -> Discrepancy:
    """The error that the leftovers (log observed over predicted) of trials tell of."""
    kernel = alike(places, places)
    same = np.eye(len(places))
    best: tuple[float, Discrepancy] | None = None
    for size in SIZES:
        for noise in NOISES:
            covariance: Floats = size**2 * kernel + noise**2 * same
            root: Floats = np.linalg.cholesky(covariance).astype(float)
            weights: Floats = np.linalg.solve(root.T, np.linalg.solve(root, left))
            # The log of the marginal likelihood, less what an error is doubted by.
            likely = float(-0.5 * left @ weights - np.log(np.diag(root)).sum()) - size / DOUBT
            if best is None or likely > best[0]:
                best = likely, Discrepancy(places, root, weights, size, noise)
    assert best is not None, "there are sizes"
    return best[1]
