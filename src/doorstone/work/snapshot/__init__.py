"""What is gathered for a decision: devices settled and sorted, exceptions that stand, what is on record."""
