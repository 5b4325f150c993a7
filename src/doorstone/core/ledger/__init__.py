"""The ledger: its entries as a chain of hashes and as sentences, and evidence packs."""
