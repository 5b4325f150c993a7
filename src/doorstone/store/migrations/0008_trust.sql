-- A token that a signed-in person got for their own command line: it may manage tokens and the profile.
ALTER TABLE tokens ADD COLUMN session INTEGER NOT NULL DEFAULT 0;

-- Who signs in through a provider is that provider's subject, bound once; names and addresses there may change.
ALTER TABLE people ADD COLUMN issuer TEXT NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN subject TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX people_bound ON people (issuer, subject) WHERE subject <> '';

-- The secret of a person's second factor, encrypted; empty where there is none. And one that is not confirmed yet.
ALTER TABLE people ADD COLUMN second_factor TEXT NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN second_factor_asked TEXT NOT NULL DEFAULT '';

-- Sign-ins and failures, with the name that was given and where from.
CREATE TABLE sign_ins (
    id INTEGER PRIMARY KEY,
    at TEXT NOT NULL,
    name TEXT NOT NULL,
    address TEXT NOT NULL,
    way TEXT NOT NULL,
    outcome TEXT NOT NULL CHECK (outcome IN ('signed-in', 'failed', 'throttled', 'refused'))
) STRICT;

-- Whoever shaped what is approved beside the requester: they are not its approvers.
ALTER TABLE exceptions ADD COLUMN shaped_by TEXT NOT NULL DEFAULT '[]';

-- What a file was when it had come whole: compared before an import goes on after a stop.
ALTER TABLE imports ADD COLUMN sha256 TEXT NOT NULL DEFAULT '';
ALTER TABLE imports ADD COLUMN ready_sha256 TEXT NOT NULL DEFAULT '';
ALTER TABLE imports ADD COLUMN may_decide INTEGER NOT NULL DEFAULT 0;

-- Second looks that wait for another approver.
CREATE TABLE second_looks (
    exception INTEGER NOT NULL REFERENCES exceptions (id),
    person TEXT NOT NULL,
    at TEXT NOT NULL,
    note TEXT NOT NULL,
    devices TEXT NOT NULL,
    shown TEXT NOT NULL,
    PRIMARY KEY (exception, person)
) STRICT;

-- What each object was when its last entry was written, sealed like the ledger's end: a row that differs was changed by
-- hand.
CREATE TABLE ledger_states (
    kind TEXT NOT NULL,
    object TEXT NOT NULL,
    seq INTEGER NOT NULL,
    state TEXT NOT NULL,
    seal TEXT NOT NULL,
    PRIMARY KEY (kind, object)
) STRICT, WITHOUT ROWID;
