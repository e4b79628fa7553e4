"""What is asked of an engine, and what is noted of a load."""
