"""MariaDB and MySQL: LOAD DATA LOCAL from a pipe, one connection a stream."""
