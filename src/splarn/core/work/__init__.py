"""How tasks run at once, how they say what they have done, and the writing of small files."""
