"""Readers and writers of open formats: the sheet in TOML, readings in NDJSON and CSV, problem documents."""
