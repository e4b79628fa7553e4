"""PostgreSQL: COPY in binary, one connection a stream."""
