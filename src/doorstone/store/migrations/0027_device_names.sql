-- Other spellings of the ids of devices, by what is equal for all of them: the id in lower case, without outer spaces.
-- A device whose id is in lower case has no row.
CREATE TABLE device_names (
  name_key TEXT PRIMARY KEY,
  device TEXT NOT NULL REFERENCES devices (id)
) WITHOUT ROWID;
INSERT OR IGNORE INTO device_names (name_key, device)
  SELECT LOWER(TRIM(id)), id FROM devices WHERE LOWER(TRIM(id)) <> id ORDER BY added_at, id;
