-- Fixes that were made, or tried and failed: what they give is read of the device until the next reading.
CREATE TABLE fixes_done (
    id INTEGER PRIMARY KEY,
    device TEXT NOT NULL,
    title TEXT NOT NULL,
    outcome TEXT NOT NULL CHECK (outcome IN ('done', 'failed')),
    gives TEXT NOT NULL,
    done_at TEXT NOT NULL,
    note TEXT NOT NULL,
    by TEXT NOT NULL,
    at TEXT NOT NULL
) STRICT;
CREATE INDEX fixes_done_device ON fixes_done (device);

-- How often each override went well on a model towards a release: counted as attempts are recorded.
CREATE TABLE override_tries (
    platform TEXT NOT NULL,
    model TEXT NOT NULL,
    release TEXT NOT NULL,
    override TEXT NOT NULL,
    tried INTEGER NOT NULL,
    done INTEGER NOT NULL,
    PRIMARY KEY (platform, model, release, override)
) STRICT, WITHOUT ROWID;
INSERT INTO override_tries (platform, model, release, override, tried, done)
    SELECT a.platform, d.model, a.release, o.value, COUNT(*), SUM(a.outcome = 'completed')
    FROM attempts AS a JOIN kits AS k ON k.id = a.kit JOIN devices AS d ON d.id = a.device, json_each(k.overrides) AS o
    WHERE a.outcome <> 'abandoned' GROUP BY a.platform, d.model, a.release, o.value;

-- Attempts that went wrong are few.
CREATE INDEX attempts_wrong ON attempts (platform, outcome, device)
    WHERE outcome IN ('refused', 'failed-to-start', 'rolled-back');

-- When anything was last read of a device, so that silence is noticed.
ALTER TABLE devices ADD COLUMN heard_at TEXT NOT NULL DEFAULT '';
UPDATE devices SET heard_at = COALESCE((SELECT MAX(json_extract(value, '$[1]')) FROM json_each(words)), '');
CREATE INDEX devices_heard ON devices (heard_at);
