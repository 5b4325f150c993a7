-- History that ends: whether a reading moved an answer, which contents no reading holds, and whose turn it is.
ALTER TABLE readings ADD COLUMN changed INTEGER NOT NULL DEFAULT 1;
CREATE INDEX readings_content ON readings (content);
ALTER TABLE reading_contents ADD COLUMN merged INTEGER NOT NULL DEFAULT 1;
ALTER TABLE change_counters ADD COLUMN history_at TEXT NOT NULL DEFAULT '';
