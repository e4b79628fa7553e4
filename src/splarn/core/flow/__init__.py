"""Parts made and shipped while others are loaded."""
