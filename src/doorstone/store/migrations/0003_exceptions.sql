-- The text that whoever asks for an exception takes on; a changed text is the next version.
CREATE TABLE risk_statements (
    version INTEGER PRIMARY KEY,
    text TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL
) STRICT;
INSERT INTO risk_statements (version, text, by, at) VALUES (
    1,
    'I understand that a device on a release by exception runs outside the vendor''s requirements: updates may stop '
    || 'without notice, later releases may have to be installed by hand or may not run at all, and the vendor may '
    || 'decline support.',
    'Door Stone',
    ''
);

ALTER TABLE exceptions ADD COLUMN risk_version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE exceptions ADD COLUMN notice_text TEXT NOT NULL DEFAULT '';
ALTER TABLE exceptions ADD COLUMN approvals_needed INTEGER NOT NULL DEFAULT 1;
ALTER TABLE exceptions ADD COLUMN asked_back INTEGER NOT NULL DEFAULT 0;
ALTER TABLE exceptions ADD COLUMN renews INTEGER REFERENCES exceptions (id);
ALTER TABLE exceptions ADD COLUMN ended_on TEXT;
CREATE INDEX exceptions_state ON exceptions (state, expires_on);
CREATE INDEX exceptions_renews ON exceptions (renews) WHERE renews IS NOT NULL;

-- What was left out when only a part was approved, with the reason; empty while it is part of the exception.
ALTER TABLE exception_devices ADD COLUMN left_out TEXT NOT NULL DEFAULT '';
ALTER TABLE exception_requirements ADD COLUMN left_out TEXT NOT NULL DEFAULT '';

-- Approvals on the way to the number that is needed. `part` and `shown` are what this approver looked at.
CREATE TABLE exception_approvals (
    exception INTEGER NOT NULL REFERENCES exceptions (id),
    person TEXT NOT NULL,
    at TEXT NOT NULL,
    note TEXT NOT NULL,
    part TEXT NOT NULL,
    shown TEXT NOT NULL,
    PRIMARY KEY (exception, person)
) STRICT, WITHOUT ROWID;

-- Conditions to keep: checked by facts if `fact_condition` is given (JSON), else attested by somebody until `due_on`.
CREATE TABLE exception_conditions (
    exception INTEGER NOT NULL REFERENCES exceptions (id),
    number INTEGER NOT NULL,
    text TEXT NOT NULL,
    fact_condition TEXT NOT NULL,
    due_on TEXT,
    every_days INTEGER,
    PRIMARY KEY (exception, number)
) STRICT, WITHOUT ROWID;
INSERT INTO exception_conditions (exception, number, text, fact_condition, due_on)
SELECT id, 1, conditions, '', review_on FROM exceptions WHERE conditions <> '';
ALTER TABLE exceptions DROP COLUMN conditions;

CREATE TABLE attestations (
    id INTEGER PRIMARY KEY,
    exception INTEGER NOT NULL,
    number INTEGER NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL,
    note TEXT NOT NULL,
    FOREIGN KEY (exception, number) REFERENCES exception_conditions (exception, number)
) STRICT;
CREATE INDEX attestations_exception ON attestations (exception, number);

CREATE TABLE exception_attachments (
    exception INTEGER NOT NULL REFERENCES exceptions (id),
    number INTEGER NOT NULL,
    title TEXT NOT NULL,
    link TEXT NOT NULL,
    sha256 TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL,
    PRIMARY KEY (exception, number)
) STRICT, WITHOUT ROWID;

CREATE TABLE exception_comments (
    id INTEGER PRIMARY KEY,
    exception INTEGER NOT NULL REFERENCES exceptions (id),
    kind TEXT NOT NULL CHECK (kind IN ('comment', 'question', 'answer')),
    text TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL
) STRICT;
CREATE INDEX exception_comments_exception ON exception_comments (exception);

ALTER TABLE attempts ADD COLUMN notice_accepted TEXT NOT NULL DEFAULT '';

-- People: where their role is a greater one, how they sign in, how and of what they are told.
ALTER TABLE people ADD COLUMN version INTEGER NOT NULL DEFAULT 1;
ALTER TABLE people ADD COLUMN sites TEXT NOT NULL DEFAULT '{}';
ALTER TABLE people ADD COLUMN origin TEXT NOT NULL DEFAULT 'password';
ALTER TABLE people ADD COLUMN email TEXT NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN told_of TEXT NOT NULL DEFAULT '[]';
ALTER TABLE people ADD COLUMN calendar_digest TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX people_calendar ON people (calendar_digest) WHERE calendar_digest <> '';

ALTER TABLE tokens ADD COLUMN device TEXT NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN last_used_at TEXT;

-- Imports by a token that may only post readings: of which device, or of any.
ALTER TABLE imports ADD COLUMN narrow INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imports ADD COLUMN only_device TEXT NOT NULL DEFAULT '';

-- The last entry of the ledger, sealed with a key that is not in this file: so that cutting the end off shows.
CREATE TABLE ledger_head (
    one INTEGER PRIMARY KEY CHECK (one = 1),
    seq INTEGER NOT NULL,
    hash TEXT NOT NULL,
    seal TEXT NOT NULL
) STRICT;

-- Which objects an entry speaks of beside its own, so that each can tell its story.
CREATE TABLE ledger_about (
    kind TEXT NOT NULL,
    object TEXT NOT NULL,
    seq INTEGER NOT NULL REFERENCES ledger (seq),
    PRIMARY KEY (kind, object, seq)
) STRICT, WITHOUT ROWID;
INSERT OR IGNORE INTO ledger_about (kind, object, seq)
SELECT 'device', each.value, ledger.seq FROM ledger, json_each(ledger.body, '$.devices') AS each
WHERE json_type(ledger.body, '$.devices') = 'array' AND each.type = 'text';
INSERT OR IGNORE INTO ledger_about (kind, object, seq)
SELECT 'device', json_extract(body, '$.device'), seq FROM ledger WHERE json_type(body, '$.device') = 'text';

-- Addresses that are told what happens, and what is on its way to them and to people's mail.
CREATE TABLE hooks (
    id INTEGER PRIMARY KEY,
    version INTEGER NOT NULL DEFAULT 1,
    url TEXT NOT NULL,
    kinds TEXT NOT NULL,
    secret TEXT NOT NULL,
    active INTEGER NOT NULL DEFAULT 1,
    by TEXT NOT NULL,
    at TEXT NOT NULL
) STRICT;
CREATE TABLE deliveries (
    id INTEGER PRIMARY KEY,
    hook INTEGER REFERENCES hooks (id),
    person TEXT NOT NULL DEFAULT '',
    event TEXT NOT NULL,
    kind TEXT NOT NULL,
    body TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'done', 'given-up')),
    tries INTEGER NOT NULL DEFAULT 0,
    next_at TEXT NOT NULL DEFAULT '',
    answer TEXT NOT NULL DEFAULT '',
    made_at TEXT NOT NULL
) STRICT;
CREATE INDEX deliveries_waiting ON deliveries (next_at) WHERE state = 'waiting';
CREATE INDEX deliveries_hook ON deliveries (hook, id);

-- What a person was told to be due, so that it is told once.
CREATE TABLE told_due (
    person TEXT NOT NULL,
    due TEXT NOT NULL,
    told_on TEXT NOT NULL,
    PRIMARY KEY (person, due)
) STRICT, WITHOUT ROWID;
