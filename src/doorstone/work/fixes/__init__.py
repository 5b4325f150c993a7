"""Fixes: what to do on a device or on a round of the sites, and what was done."""
