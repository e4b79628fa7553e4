"""Nonlinear least squares for laws: many candidates in one call, since their cost is the call.

Levenberg 1944 and Marquardt 1963, with a Jacobian of forward differences; all its columns are asked
for at once, and so are steps of several lengths.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from splarn.core.tuning.columns import Floats

# Of a forward difference: far less than parameters are known to, far more than rounding.
STEP = 1e-5
DAMPINGS = np.array([1e-3, 1e-1, 1.0, 10.0, 1e3])
ROUNDS = 100
ENOUGH = 1e-7

# Candidates of shape (k, parameters) to residuals of shape (k, n).
Residuals = Callable[[Floats], Floats]


def least_squares(
    residuals: Residuals, start: Floats, low: Floats, high: Floats, rounds: int = ROUNDS
) -> tuple[Floats, Floats]:
    """The parameters of the least sum of squares between bounds, and the Jacobian there.

    Shapes (parameters,) and (n, parameters). After so many `rounds` it is left where it is.
    """
    theta = np.clip(start, low, high)
    damping = 1.0
    steps = STEP * np.eye(len(theta))
    jacobian = np.zeros((0, len(theta)))
    for _ in range(rounds):
        found = residuals(np.concatenate((theta[None, :], theta + steps)))
        here, jacobian = found[0], (found[1:] - found[0]).T / STEP
        least = float(here @ here)
        square, slope = jacobian.T @ jacobian, jacobian.T @ here
        # What lies at a bound and would go beyond stays.
        held = ((theta <= low) & (slope > 0)) | ((theta >= high) & (slope < 0))
        square[held, :] = square[:, held] = 0
        slope[held] = 0
        diagonal = np.diag(np.maximum(np.diag(square), 1e-12))
        damped = square + (damping * DAMPINGS)[:, None, None] * diagonal
        moves = np.linalg.solve(damped, np.broadcast_to(slope[:, None], (*damped.shape[:2], 1)))
        tries = np.clip(theta - moves[:, :, 0], low, high)
        sums = (residuals(tries) ** 2).sum(axis=1)
        best = int(np.nanargmin(sums))
        if not sums[best] < least:
            if damping > 1e6:
                break
            damping *= 1e3
            continue
        moved = float(np.abs(tries[best] - theta).max())
        theta = tries[best]
        damping = float(np.clip(damping * DAMPINGS[best], 1e-9, 1e9))
        if least - sums[best] < ENOUGH * max(least, 1e-12) or moved < ENOUGH:
            break
    return theta, jacobian
