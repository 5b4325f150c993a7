"""The ledger, read and checked, and evidence packs."""
