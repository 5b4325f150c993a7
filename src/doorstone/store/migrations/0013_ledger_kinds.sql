-- The newest entry on a kind of object is asked for with every page.
CREATE INDEX ledger_kind ON ledger (kind, seq);
