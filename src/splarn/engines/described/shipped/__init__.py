"""Descriptions that ship with Splarn, each for an engine that a test reaches."""
