"""Devices: which of them give the same answers."""
