"""Exceptions in the records: their rows, what is written to them, and the risk statements."""
