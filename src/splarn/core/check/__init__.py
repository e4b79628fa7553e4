"""What in the data does not fit: faults, values that came before, and how many are borne."""

from splarn.core.check.checking import CheckResult, check

__all__ = ["CheckResult", "check"]
