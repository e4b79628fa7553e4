"""The version, for whoever must not import the package that offers everything."""

__version__ = "0.1.0"
