"""Fixes: the cheapest ones that meet the requirements, in the order in which they are made."""
