"""DuckDB: Arrow tables inserted by threads that share one open file."""
