"""After a restore: what is held, what the other ends hold beyond the backup, and how sending begins again."""
