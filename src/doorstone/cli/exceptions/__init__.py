"""Exceptions from the command line: requested, decided, looked after, shown."""
