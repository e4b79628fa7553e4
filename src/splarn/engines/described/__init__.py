"""Targets that are described in a file: statements and abilities in place of a module."""
