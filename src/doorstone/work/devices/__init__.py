"""Devices: settled and put into classes, listed, chosen, their disputes settled."""
