"""A plan carried out, stage after stage."""
