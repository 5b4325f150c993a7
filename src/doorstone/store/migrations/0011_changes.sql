-- What each entry changed, sealed in a chain per object: every state can be recomputed from them. States kept before it are
-- compared once, when the first changes are written, and dropped.
CREATE TABLE ledger_changes (
    kind TEXT NOT NULL,
    object TEXT NOT NULL,
    seq INTEGER NOT NULL,
    change TEXT NOT NULL,
    seal TEXT NOT NULL,
    PRIMARY KEY (kind, object, seq)
) STRICT, WITHOUT ROWID;
