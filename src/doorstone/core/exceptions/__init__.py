"""Exceptions: their life, what they were granted on, what follows when they end, who runs without one."""
