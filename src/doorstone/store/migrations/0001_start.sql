CREATE TABLE people (
    name TEXT PRIMARY KEY,
    display TEXT NOT NULL,
    role TEXT NOT NULL CHECK (role IN ('viewer', 'technician', 'approver', 'administrator')),
    password_hash TEXT NOT NULL,
    active INTEGER NOT NULL DEFAULT 1,
    session_epoch INTEGER NOT NULL DEFAULT 1,
    added_at TEXT NOT NULL
) STRICT;

CREATE TABLE tokens (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    person TEXT NOT NULL REFERENCES people (name),
    role TEXT NOT NULL,
    digest TEXT NOT NULL UNIQUE,
    issued_at TEXT NOT NULL,
    expires_on TEXT NOT NULL,
    revoked_at TEXT
) STRICT;

CREATE TABLE sheets (
    platform TEXT NOT NULL,
    revision INTEGER NOT NULL,
    sha256 TEXT NOT NULL,
    text TEXT NOT NULL,
    lists TEXT NOT NULL,
    loaded_at TEXT NOT NULL,
    loaded_by TEXT NOT NULL,
    PRIMARY KEY (platform, revision)
) STRICT;

CREATE TABLE devices (
    id TEXT PRIMARY KEY,
    name TEXT NOT NULL DEFAULT '',
    site TEXT NOT NULL DEFAULT '',
    role TEXT NOT NULL DEFAULT '',
    critical INTEGER NOT NULL DEFAULT 0,
    added_at TEXT NOT NULL
) STRICT;

CREATE TABLE imports (
    id INTEGER PRIMARY KEY,
    at TEXT NOT NULL,
    by TEXT NOT NULL,
    form TEXT NOT NULL,
    readings INTEGER NOT NULL,
    devices INTEGER NOT NULL,
    added INTEGER NOT NULL
) STRICT;

CREATE TABLE readings (
    id INTEGER PRIMARY KEY,
    device TEXT NOT NULL REFERENCES devices (id),
    import_id INTEGER REFERENCES imports (id),
    source TEXT NOT NULL,
    taken_at TEXT NOT NULL,
    facts TEXT NOT NULL,
    verdicts TEXT NOT NULL,
    UNIQUE (device, source, taken_at)
) STRICT;

-- Each source's newest reading of each fact: what settling starts from.
CREATE TABLE device_facts (
    device TEXT NOT NULL REFERENCES devices (id),
    fact TEXT NOT NULL,
    source TEXT NOT NULL,
    value TEXT NOT NULL,
    taken_at TEXT NOT NULL,
    PRIMARY KEY (device, fact, source)
) STRICT, WITHOUT ROWID;

CREATE TABLE device_verdicts (
    device TEXT NOT NULL REFERENCES devices (id),
    requirement TEXT NOT NULL,
    source TEXT NOT NULL,
    passed INTEGER NOT NULL,
    taken_at TEXT NOT NULL,
    PRIMARY KEY (device, requirement, source)
) STRICT, WITHOUT ROWID;

CREATE TABLE decisions (
    id INTEGER PRIMARY KEY,
    platform TEXT NOT NULL,
    requirement TEXT NOT NULL,
    release TEXT NOT NULL,
    scope TEXT NOT NULL CHECK (scope IN ('device', 'model', 'release')),
    target TEXT NOT NULL,
    sort TEXT NOT NULL CHECK (sort IN ('floor', 'installer-check', 'unsorted')),
    evidence TEXT NOT NULL,
    note TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL
) STRICT;

CREATE TABLE exceptions (
    id INTEGER PRIMARY KEY,
    version INTEGER NOT NULL DEFAULT 1,
    platform TEXT NOT NULL,
    release TEXT NOT NULL,
    up_to INTEGER NOT NULL,
    reason TEXT NOT NULL,
    risk_text TEXT NOT NULL,
    acknowledged_by TEXT NOT NULL,
    conditions TEXT NOT NULL,
    owner TEXT NOT NULL,
    start_on TEXT NOT NULL,
    expires_on TEXT NOT NULL,
    review_on TEXT NOT NULL,
    state TEXT NOT NULL,
    requester TEXT NOT NULL,
    requested_at TEXT NOT NULL,
    decided_by TEXT,
    decided_at TEXT,
    decision_note TEXT NOT NULL DEFAULT '',
    self_approved INTEGER NOT NULL DEFAULT 0
) STRICT;

CREATE TABLE exception_requirements (
    exception INTEGER NOT NULL REFERENCES exceptions (id),
    requirement TEXT NOT NULL,
    PRIMARY KEY (exception, requirement)
) STRICT, WITHOUT ROWID;

-- `shown` is what the approval of this device rests on; NULL until approved.
CREATE TABLE exception_devices (
    exception INTEGER NOT NULL REFERENCES exceptions (id),
    device TEXT NOT NULL REFERENCES devices (id),
    shown TEXT,
    PRIMARY KEY (exception, device)
) STRICT, WITHOUT ROWID;
CREATE INDEX exception_devices_device ON exception_devices (device);

CREATE TABLE kits (
    id INTEGER PRIMARY KEY,
    platform TEXT NOT NULL,
    sheet_revision INTEGER NOT NULL,
    release TEXT NOT NULL,
    route TEXT NOT NULL,
    carry_over TEXT NOT NULL,
    device TEXT NOT NULL REFERENCES devices (id),
    overrides TEXT NOT NULL,
    exceptions TEXT NOT NULL,
    sha256 TEXT NOT NULL,
    archive BLOB NOT NULL,
    made_by TEXT NOT NULL,
    made_at TEXT NOT NULL
) STRICT;

CREATE TABLE attempts (
    id INTEGER PRIMARY KEY,
    device TEXT NOT NULL REFERENCES devices (id),
    number INTEGER NOT NULL,
    kit INTEGER REFERENCES kits (id),
    platform TEXT NOT NULL,
    release TEXT NOT NULL,
    route TEXT NOT NULL,
    carry_over TEXT NOT NULL,
    outcome TEXT NOT NULL,
    refused_by TEXT NOT NULL,
    seen TEXT NOT NULL,
    media TEXT NOT NULL,
    tool_version TEXT NOT NULL,
    unmet TEXT NOT NULL,
    started_at TEXT NOT NULL,
    ended_at TEXT NOT NULL,
    by TEXT NOT NULL,
    UNIQUE (device, number)
) STRICT;

CREATE TABLE observations (
    id INTEGER PRIMARY KEY,
    device TEXT NOT NULL REFERENCES devices (id),
    seen_on TEXT NOT NULL,
    update_class TEXT NOT NULL,
    result TEXT NOT NULL,
    reason TEXT NOT NULL,
    source TEXT NOT NULL,
    detail TEXT NOT NULL,
    by TEXT NOT NULL
) STRICT;
CREATE INDEX observations_device ON observations (device, seen_on);

CREATE TABLE ledger (
    seq INTEGER PRIMARY KEY,
    at TEXT NOT NULL,
    actor TEXT NOT NULL,
    via TEXT NOT NULL,
    action TEXT NOT NULL,
    kind TEXT NOT NULL,
    object TEXT NOT NULL,
    body TEXT NOT NULL,
    previous TEXT NOT NULL,
    hash TEXT NOT NULL
) STRICT;
CREATE INDEX ledger_object ON ledger (kind, object);
CREATE TRIGGER ledger_keeps BEFORE UPDATE ON ledger BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;
CREATE TRIGGER ledger_stays BEFORE DELETE ON ledger BEGIN SELECT RAISE(ABORT, 'the ledger is append-only'); END;

-- What a creating call with an Idempotency-Key made, so that a repeat finds it.
CREATE TABLE receipts (
    actor TEXT NOT NULL,
    key TEXT NOT NULL,
    fingerprint TEXT NOT NULL,
    object TEXT NOT NULL,
    at TEXT NOT NULL,
    PRIMARY KEY (actor, key)
) STRICT, WITHOUT ROWID;
