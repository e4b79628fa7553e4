"""The stages as functions, behind the public names of `splarn`."""
