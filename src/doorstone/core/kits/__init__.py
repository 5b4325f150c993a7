"""Kits: which overrides, under which gates, and every file that carries one upgrade out and undoes it."""
