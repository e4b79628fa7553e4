"""Millrace: a simulated elastic engine that really stores rows and only pretends its clock."""
