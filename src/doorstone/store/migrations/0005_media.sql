-- Set-up media as recorded: what is on each, where it came from, whether its SHA-256 is the published one.
CREATE TABLE media (
    id INTEGER PRIMARY KEY,
    platform TEXT NOT NULL,
    release TEXT NOT NULL,
    asked TEXT NOT NULL,
    editions TEXT NOT NULL,
    language TEXT NOT NULL,
    arch TEXT NOT NULL,
    partition_table TEXT NOT NULL,
    size INTEGER NOT NULL,
    sha256 TEXT NOT NULL,
    published_sha256 TEXT NOT NULL,
    origin TEXT NOT NULL,
    maker TEXT NOT NULL,
    link TEXT NOT NULL,
    link_ends TEXT,
    stick_gb INTEGER,
    withdrawn TEXT NOT NULL DEFAULT '',
    by TEXT NOT NULL,
    at TEXT NOT NULL
) STRICT;
CREATE INDEX media_release ON media (platform, release);

-- Which media a kit was made for, and which settings sets are in it (JSON).
ALTER TABLE kits ADD COLUMN media TEXT;
ALTER TABLE kits ADD COLUMN sets TEXT NOT NULL DEFAULT '[]';
