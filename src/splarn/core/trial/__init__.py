"""Trials: measured loads of a sample, designed so that noise and drift do not mislead."""

from splarn.core.trial.design import PlannedTrial, design
from splarn.core.trial.trial import Trial

__all__ = ["PlannedTrial", "Trial", "design"]
