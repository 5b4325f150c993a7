"""Exceptions: requested, decided, looked after, handed over as a register, found missing."""
