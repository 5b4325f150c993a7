"""Readings: what each source said last."""
