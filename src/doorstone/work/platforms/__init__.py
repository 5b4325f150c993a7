"""Platforms: sheets as loaded, their revisions, and what a changed sheet would do."""
