"""What every use case stands on: the records, the clock, who acts, the ledger entry, ids, errors."""
