-- What readings say, each distinct content once: devices that say the same share it. A content never changes.
CREATE TABLE said (
    id INTEGER PRIMARY KEY,
    digest BLOB NOT NULL UNIQUE,
    body TEXT NOT NULL
) STRICT;

-- An empty list of texts was kept also where the source had told of none: only what stands in words knows the two apart.
CREATE TEMP TABLE old_readings AS
SELECT device, source, taken_at, import_id,
    said_body(facts, verdicts, unread, CASE texts WHEN '[]' THEN 'null' ELSE texts END) AS body
FROM readings;
CREATE TEMP TABLE old_words AS
SELECT s.device, s.source, e.key AS taken_at,
    said_body(COALESCE(e.value ->> '$.facts', '{}'), COALESCE(e.value ->> '$.verdicts', '{}'), '{}',
              COALESCE(e.value ->> '$.texts', 'null')) AS body
FROM device_sources AS s, json_each(s.words) AS e;
INSERT OR IGNORE INTO said (digest, body) SELECT said_digest(body), body FROM old_readings;
INSERT OR IGNORE INTO said (digest, body) SELECT said_digest(body), body FROM old_words;

DROP TABLE readings;
CREATE TABLE readings (
    device TEXT NOT NULL REFERENCES devices (id),
    source TEXT NOT NULL,
    taken_at TEXT NOT NULL,
    said INTEGER NOT NULL REFERENCES said (id),
    import_id INTEGER REFERENCES imports (id),
    PRIMARY KEY (device, source, taken_at)
) STRICT, WITHOUT ROWID;
INSERT INTO readings (device, source, taken_at, said, import_id)
SELECT o.device, o.source, o.taken_at, s.id, o.import_id
FROM old_readings AS o JOIN said AS s ON s.digest = said_digest(o.body);

-- `words`: what each source says now, as [source, time, content]; `heard_in`: the import that spoke of it last.
CREATE TABLE new_devices (
    id TEXT PRIMARY KEY,
    name TEXT NOT NULL DEFAULT '',
    site TEXT NOT NULL DEFAULT '',
    role TEXT NOT NULL DEFAULT '',
    critical INTEGER NOT NULL DEFAULT 0,
    added_at TEXT NOT NULL,
    platform TEXT NOT NULL DEFAULT '',
    model TEXT NOT NULL DEFAULT '',
    runs TEXT NOT NULL DEFAULT '',
    edition TEXT NOT NULL DEFAULT '',
    profile INTEGER REFERENCES profiles (id),
    stands_until TEXT DEFAULT '',
    words TEXT NOT NULL DEFAULT '[]',
    heard_in INTEGER
) STRICT, WITHOUT ROWID;
INSERT INTO new_devices
SELECT d.id, d.name, d.site, d.role, d.critical, d.added_at, d.platform, d.model, d.runs, d.edition, d.profile,
    d.stands_until,
    (SELECT json_group_array(json_array(o.source, o.taken_at, s.id))
     FROM old_words AS o JOIN said AS s ON s.digest = said_digest(o.body) WHERE o.device = d.id),
    NULL
FROM devices AS d;
DROP TABLE devices;
ALTER TABLE new_devices RENAME TO devices;
CREATE INDEX devices_listed ON devices (platform, id);
CREATE INDEX devices_at_site ON devices (platform, site, id);
CREATE INDEX devices_profile ON devices (profile, id);
CREATE INDEX devices_standing ON devices (stands_until) WHERE stands_until IS NOT NULL;
DROP TABLE device_sources;
DROP TABLE temp.old_readings;
DROP TABLE temp.old_words;

-- How many devices have a profile, whatever their site and role.
ALTER TABLE profiles ADD COLUMN devices INTEGER NOT NULL DEFAULT 0;
UPDATE profiles SET devices = (SELECT COUNT(*) FROM devices AS d WHERE d.profile = profiles.id);
CREATE INDEX profiles_used ON profiles (platform, id) WHERE devices > 0;
DROP INDEX profiles_platform;

-- Counts by place: a site's are together. Findings are worked out in memory from the profiles and the rules.
DROP TABLE profile_findings;
CREATE TABLE placed (
    platform TEXT NOT NULL,
    site TEXT NOT NULL,
    role TEXT NOT NULL,
    profile INTEGER NOT NULL REFERENCES profiles (id),
    devices INTEGER NOT NULL,
    PRIMARY KEY (platform, site, role, profile)
) STRICT, WITHOUT ROWID;
INSERT INTO placed (platform, site, role, profile, devices)
SELECT platform, site, role, profile, COUNT(*) FROM devices WHERE profile IS NOT NULL GROUP BY 1, 2, 3, 4;
DROP TABLE profile_counts;

-- A count of the changes to people and tokens: who may do what is remembered only while it stands still.
ALTER TABLE settled ADD COLUMN people INTEGER NOT NULL DEFAULT 0;
CREATE TRIGGER people_added AFTER INSERT ON people BEGIN UPDATE settled SET people = people + 1; END;
CREATE TRIGGER people_changed AFTER UPDATE ON people BEGIN UPDATE settled SET people = people + 1; END;
CREATE TRIGGER people_gone AFTER DELETE ON people BEGIN UPDATE settled SET people = people + 1; END;
CREATE TRIGGER tokens_added AFTER INSERT ON tokens BEGIN UPDATE settled SET people = people + 1; END;
CREATE TRIGGER tokens_changed AFTER UPDATE ON tokens BEGIN UPDATE settled SET people = people + 1; END;
CREATE TRIGGER tokens_gone AFTER DELETE ON tokens BEGIN UPDATE settled SET people = people + 1; END;
