-- What an approval rests on, and a change in the ledger, may be long. A table without row numbers reads such a row whole
-- to compare its key; these tables find rows by a short index.
CREATE TABLE approvals_now (
    exception INTEGER NOT NULL REFERENCES exceptions (id),
    person TEXT NOT NULL,
    at TEXT NOT NULL,
    note TEXT NOT NULL,
    part TEXT NOT NULL,
    shown TEXT NOT NULL,
    PRIMARY KEY (exception, person)
) STRICT;
INSERT INTO approvals_now (exception, person, at, note, part, shown)
SELECT exception, person, at, note, part, shown FROM exception_approvals ORDER BY exception, at, person;
DROP TABLE exception_approvals;
ALTER TABLE approvals_now RENAME TO exception_approvals;

CREATE TABLE changes_now (
    kind TEXT NOT NULL,
    object TEXT NOT NULL,
    seq INTEGER NOT NULL,
    change TEXT NOT NULL,
    seal TEXT NOT NULL,
    PRIMARY KEY (kind, object, seq)
) STRICT;
INSERT INTO changes_now (kind, object, seq, change, seal)
SELECT kind, object, seq, change, seal FROM ledger_changes ORDER BY seq, kind, object;
DROP TABLE ledger_changes;
ALTER TABLE changes_now RENAME TO ledger_changes;
