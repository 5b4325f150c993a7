"""Benchmarks: each measure beside its baseline in one run. `make bench` runs `python -m benchmarks.run`."""
