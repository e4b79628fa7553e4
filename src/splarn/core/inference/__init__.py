"""Layouts judged from samples: how text is written, and what each column holds."""
