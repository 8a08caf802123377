"""SQLite by plain SQL: sessions, steps and takes."""
