"""SQLite: images of tables moved in under the write lock of the file."""
