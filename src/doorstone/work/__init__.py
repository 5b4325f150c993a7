"""The use cases: one function per thing a person does, one transaction each, with its ledger entry inside."""
