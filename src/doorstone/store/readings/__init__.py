"""Readings in the records: imports, contents that readings share, failure messages."""
