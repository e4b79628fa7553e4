"""What the laws leave out: a smooth error over the levers, learned from what trials left over.

A Gaussian process over the logs of a phase's seconds, as Kennedy and O'Hagan 2001 ("Bayesian
Calibration of Computer Models") add one to a model that is known to be wrong somewhere. Its size
and the noise of trials are those that make the leftovers likeliest, drawn towards none.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from splarn.core.tuning.columns import Floats
from splarn.core.tuning.places import alike

FEATURES = 200
SIZES = (0.0, 0.02, 0.04, 0.08, 0.16, 0.32, 0.64)
NOISES = (0.01, 0.02, 0.04, 0.08, 0.16)
# An error of this size is less likely than none by a factor of e, before anything is seen.
DOUBT = 0.2
# So many errors are kept at most, and none that is less likely than the likeliest by more.
MOST_POSSIBLE, UNLIKELY = 6, 0.02


@dataclass(frozen=True)
class Possible:
    """One error that may be: its spread before any trial, the noise of trials, and how likely.

    `root` is the Cholesky root of the covariance of what was tried, `pulls` what the leftovers make
    of it.
    """

    size: float
    noise: float
    share: float
    root: Floats
    pulls: Floats


@dataclass(frozen=True)
class Discrepancy:
    """The error of one phase's law over configurations: several that may be, none among them.

    `places` are those that were tried, shape (tried, features). `noise` is the spread of a trial,
    and `loose` how many times as much each one's is, shape (tried,).
    """

    places: Floats
    possible: tuple[Possible, ...]
    noise: float
    loose: Floats

    @property
    def size(self) -> float:
        """How large it is, in the mean over all that may be."""
        return math.sqrt(sum(one.share * one.size**2 for one in self.possible))

    def at(self, places: Floats) -> Floats:
        """The error that is expected at these places, shape (n,)."""
        found = np.zeros(len(places))
        for one in self.possible:
            if one.size:
                found += one.share * one.size**2 * (alike(places, self.places) @ one.pulls)
        return found

    def draws(self, places: Floats, count: int, random: np.random.Generator) -> Floats:
        """Errors that are still possible, shape (n, count).

        A draw from before any trial, by random features (Rahimi and Recht 2007), is moved by what
        the trials showed other than it has (Matheron's rule; Wilson and others 2020).
        """
        drawn = np.zeros((len(places), count))
        shares = np.array([one.share for one in self.possible])
        counts = random.multinomial(count, shares / shares.sum()) if len(shares) else shares
        waves = random.standard_normal((places.shape[1], FEATURES))
        shifts = random.uniform(0, 2 * np.pi, FEATURES)
        normal = random.standard_normal((FEATURES, count))
        noises = random.standard_normal((len(self.places), count))
        here = np.cos(places @ waves + shifts)
        tried = np.cos(self.places @ waves + shifts)
        across = alike(places, self.places)
        first = 0
        for one, few in zip(self.possible, counts.tolist(), strict=True):
            mine = slice(first, first + few)
            first += few
            if not one.size or not few:
                continue
            heights = one.size * (2 / FEATURES) ** 0.5 * normal[:, mine]
            seen = tried @ heights + one.noise * self.loose[:, None] * noises[:, mine]
            moved = np.linalg.solve(one.root.T, np.linalg.solve(one.root, seen))
            drawn[:, mine] = here @ heights + one.size**2 * across @ (one.pulls[:, None] - moved)
        return drawn


def learn(
    places: Floats, left: Floats, honest: Floats | None = None, loose: Floats | None = None
) -> Discrepancy:
    """The error that the leftovers (log observed over predicted) of trials tell of.

    How large it and the noise may be, is told by the `honest` leftovers: those that trials would
    have had that no parameter was fitted to. All that is likely is kept, since few trials leave
    much open that the likeliest alone would hide. `loose` says of each trial how many times
    as noisy it is as others.
    """
    told = left if honest is None else honest
    kernel = alike(places, places)
    loose = np.ones(len(places)) if loose is None else loose
    same = np.diag(loose**2)
    tries = [(size, noise) for size in SIZES for noise in NOISES]
    roots: list[Floats] = []
    likely = np.empty(len(tries))
    for number, (size, noise) in enumerate(tries):
        root: Floats = np.linalg.cholesky(size**2 * kernel + noise**2 * same).astype(float)
        half = np.linalg.solve(root, told)
        # The log of the marginal likelihood, less what an error is doubted by.
        likely[number] = -0.5 * half @ half - np.log(np.diag(root)).sum() - size / DOUBT
        roots.append(root)
    shares = np.exp(likely - likely.max())
    kept = [n for n in np.argsort(-shares)[:MOST_POSSIBLE].tolist() if shares[n] > UNLIKELY]
    total = sum(float(shares[number]) for number in kept)
    possible = []
    for number in kept:
        size, noise = tries[number]
        pulls: Floats = np.linalg.solve(roots[number].T, np.linalg.solve(roots[number], left))
        possible.append(Possible(size, noise, float(shares[number]) / total, roots[number], pulls))
    noise = math.sqrt(sum(one.share * one.noise**2 for one in possible))
    return Discrepancy(places, tuple(possible), noise, loose)
