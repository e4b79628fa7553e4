"""Where records start and end, in blocks and in lines."""
