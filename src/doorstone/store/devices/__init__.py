"""Devices in the records: as they stand, their profiles, saved selections, settlements of disputes."""
