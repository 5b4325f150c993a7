"""Kits: made for one device or several of the same case, signed, handed out while they stand, compared."""
