"""Sorting: what each requirement of a release finds on a device, and what each unmet one is taken for."""
