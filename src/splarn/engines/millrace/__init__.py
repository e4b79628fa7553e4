"""Millrace, the simulated elastic engine, which reads parts itself."""
