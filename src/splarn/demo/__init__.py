"""The made-up scenario: Larkmere Waterways, a canal authority, and its data."""
