-- Each source's newest words about a device, in one row: time of reading -> what of that reading still is its newest.
CREATE TABLE device_sources (
    device TEXT NOT NULL REFERENCES devices (id),
    source TEXT NOT NULL,
    words TEXT NOT NULL,
    PRIMARY KEY (device, source)
) STRICT, WITHOUT ROWID;

INSERT INTO device_sources (device, source, words)
SELECT device, source, json_group_object(taken_at, json(said))
FROM (
    SELECT device, source, taken_at,
        json_object('facts', json_group_object(name, json(value)) FILTER (WHERE kind = 'fact'),
                    'verdicts', json_group_object(name, json(value)) FILTER (WHERE kind = 'verdict')) AS said
    FROM (
        SELECT device, source, taken_at, 'fact' AS kind, fact AS name, value FROM device_facts
        UNION ALL
        SELECT device, source, taken_at, 'verdict', requirement, CASE passed WHEN 1 THEN 'true' ELSE 'false' END
        FROM device_verdicts
    )
    GROUP BY device, source, taken_at
)
GROUP BY device, source;
DROP TABLE device_facts;
DROP TABLE device_verdicts;

-- What a reading could not find out and why, and the failures that an assessor put in words.
ALTER TABLE readings ADD COLUMN unread TEXT NOT NULL DEFAULT '{}';
ALTER TABLE readings ADD COLUMN texts TEXT NOT NULL DEFAULT '[]';
CREATE INDEX readings_import ON readings (import_id) WHERE import_id IS NOT NULL;

-- The distinct sets of facts that requirements can see. A profile never changes: other facts are another profile.
CREATE TABLE profiles (
    id INTEGER PRIMARY KEY,
    platform TEXT NOT NULL,
    key TEXT NOT NULL UNIQUE,
    model TEXT NOT NULL,
    runs TEXT NOT NULL,
    own TEXT NOT NULL,
    picture TEXT NOT NULL
) STRICT;
CREATE INDEX profiles_platform ON profiles (platform);

ALTER TABLE devices ADD COLUMN platform TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN model TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN runs TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN edition TEXT NOT NULL DEFAULT '';
ALTER TABLE devices ADD COLUMN profile INTEGER REFERENCES profiles (id);
-- The last day on which the device is as it was settled; NULL if no word on it ages.
ALTER TABLE devices ADD COLUMN stands_until TEXT DEFAULT '';
CREATE INDEX devices_listed ON devices (platform, id);
CREATE INDEX devices_profile ON devices (profile, id);
CREATE INDEX devices_standing ON devices (stands_until) WHERE stands_until IS NOT NULL;

CREATE TABLE profile_counts (
    profile INTEGER NOT NULL REFERENCES profiles (id),
    site TEXT NOT NULL,
    role TEXT NOT NULL,
    devices INTEGER NOT NULL,
    PRIMARY KEY (profile, site, role)
) STRICT, WITHOUT ROWID;

CREATE TRIGGER devices_moved AFTER UPDATE OF profile, site, role ON devices
WHEN OLD.profile IS NOT NEW.profile OR OLD.site <> NEW.site OR OLD.role <> NEW.role
BEGIN
    UPDATE profile_counts SET devices = devices - 1
    WHERE profile = OLD.profile AND site = OLD.site AND role = OLD.role;
    INSERT INTO profile_counts (profile, site, role, devices)
    SELECT NEW.profile, NEW.site, NEW.role, 1 WHERE NEW.profile IS NOT NULL
    ON CONFLICT DO UPDATE SET devices = devices + 1;
END;

-- A profile against a release. `basis` is a digest of the rules it was sorted by: another basis, and it is sorted anew.
CREATE TABLE profile_findings (
    profile INTEGER NOT NULL REFERENCES profiles (id),
    release TEXT NOT NULL,
    basis TEXT NOT NULL,
    state TEXT NOT NULL,
    marks TEXT NOT NULL,
    PRIMARY KEY (profile, release)
) STRICT, WITHOUT ROWID;

-- The day for which devices are settled, and a count of the changes to devices that the ledger has no entry for yet.
CREATE TABLE settled (day TEXT NOT NULL, changes INTEGER NOT NULL) STRICT;
INSERT INTO settled (day, changes) VALUES ('', 0);

-- Imports that run as jobs.
ALTER TABLE imports ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE imports ADD COLUMN state TEXT NOT NULL DEFAULT 'done';
ALTER TABLE imports ADD COLUMN dry INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imports ADD COLUMN skip INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imports ADD COLUMN mapping TEXT NOT NULL DEFAULT '';
ALTER TABLE imports ADD COLUMN size INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imports ADD COLUMN position INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imports ADD COLUMN checked INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imports ADD COLUMN applied INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imports ADD COLUMN rejected INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imports ADD COLUMN why TEXT NOT NULL DEFAULT '';
ALTER TABLE imports ADD COLUMN changes TEXT NOT NULL DEFAULT '';
ALTER TABLE imports ADD COLUMN ended_at TEXT NOT NULL DEFAULT '';

CREATE TABLE import_problems (
    import_id INTEGER NOT NULL REFERENCES imports (id),
    number INTEGER NOT NULL,
    line INTEGER NOT NULL,
    place TEXT NOT NULL,
    message TEXT NOT NULL,
    mend TEXT NOT NULL,
    PRIMARY KEY (import_id, number)
) STRICT, WITHOUT ROWID;

-- An operator's word in a dispute. It holds until something newer than `seen_until` is read of the subject.
CREATE TABLE settlements (
    id INTEGER PRIMARY KEY,
    device TEXT NOT NULL REFERENCES devices (id),
    kind TEXT NOT NULL CHECK (kind IN ('fact', 'requirement')),
    subject TEXT NOT NULL,
    value TEXT NOT NULL,
    seen_until TEXT NOT NULL,
    reason TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL
) STRICT;
CREATE INDEX settlements_device ON settlements (device, kind, subject, id);

ALTER TABLE decisions ADD COLUMN link TEXT NOT NULL DEFAULT '';
ALTER TABLE decisions ADD COLUMN withdrawn_at TEXT;
ALTER TABLE decisions ADD COLUMN withdrawn_by TEXT NOT NULL DEFAULT '';
ALTER TABLE decisions ADD COLUMN withdrawn_note TEXT NOT NULL DEFAULT '';

-- Which requirement a failure text speaks of, and requirements that only such texts know.
CREATE TABLE text_matches (
    platform TEXT NOT NULL,
    text TEXT NOT NULL,
    requirement TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL,
    PRIMARY KEY (platform, text)
) STRICT, WITHOUT ROWID;
CREATE TABLE reported_requirements (
    platform TEXT NOT NULL,
    id TEXT NOT NULL,
    title TEXT NOT NULL,
    since TEXT NOT NULL,
    because TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL,
    PRIMARY KEY (platform, id)
) STRICT, WITHOUT ROWID;
CREATE TABLE device_texts (
    device TEXT NOT NULL REFERENCES devices (id),
    source TEXT NOT NULL,
    text TEXT NOT NULL,
    taken_at TEXT NOT NULL,
    PRIMARY KEY (device, source, text)
) STRICT, WITHOUT ROWID;
CREATE INDEX device_texts_text ON device_texts (text);

CREATE TABLE selections (
    name TEXT PRIMARY KEY,
    platform TEXT NOT NULL,
    release TEXT NOT NULL,
    chosen TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL
) STRICT, WITHOUT ROWID;
