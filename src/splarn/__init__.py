"""Splarn plans large bulk loads from measurements and carries them out exactly once."""

__version__ = "0.1.0"
