-- What is to be done after an attempt that completed, and what came of it.
CREATE TABLE followups (
    id INTEGER PRIMARY KEY,
    attempt INTEGER NOT NULL REFERENCES attempts (id),
    device TEXT NOT NULL REFERENCES devices (id),
    seq INTEGER NOT NULL,
    name TEXT NOT NULL,
    title TEXT NOT NULL,
    todo TEXT NOT NULL,
    kind TEXT NOT NULL,
    blocking INTEGER NOT NULL,
    due_on TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'done', 'failed', 'skipped')),
    answer TEXT NOT NULL DEFAULT '',
    reason TEXT NOT NULL DEFAULT '',
    by TEXT NOT NULL DEFAULT '',
    at TEXT NOT NULL DEFAULT '',
    UNIQUE (attempt, name)
) STRICT;
CREATE INDEX followups_device ON followups (device, attempt, seq);
CREATE INDEX followups_open ON followups (due_on) WHERE state = 'open';

-- What `verify` of a kit said on a device, each time that it was asked again.
CREATE TABLE verifications (
    id INTEGER PRIMARY KEY,
    kit INTEGER NOT NULL REFERENCES kits (id),
    device TEXT NOT NULL REFERENCES devices (id),
    at TEXT NOT NULL,
    by TEXT NOT NULL,
    ok INTEGER NOT NULL,
    settings TEXT NOT NULL
) STRICT;
CREATE INDEX verifications_device ON verifications (device, id);

-- When each device is to be asked about at the update service, and how often that has failed in a row.
CREATE TABLE polls (
    device TEXT PRIMARY KEY REFERENCES devices (id),
    next_at TEXT NOT NULL,
    failures INTEGER NOT NULL,
    error TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- Which mismatch an attempt met, in words: the base language where carry-over was lost, say.
ALTER TABLE attempts ADD COLUMN mismatch TEXT NOT NULL DEFAULT '';
CREATE INDEX attempts_kit ON attempts (kit);
