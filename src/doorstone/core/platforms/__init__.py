"""Platforms: what a sheet says, how two revisions differ, what one requirement means in words."""
