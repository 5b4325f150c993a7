"""Readings: a file is received, checked, applied; failure messages are matched to requirements."""
