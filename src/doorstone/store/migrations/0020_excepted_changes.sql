-- Devices that some exception names, and at which count of changes they were last written or placed anew.
CREATE TABLE excepted_device_changes (
  device TEXT PRIMARY KEY REFERENCES devices (id),
  at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX excepted_device_changes_at ON excepted_device_changes (at);
-- At which count of changes its devices, their attempts, or whether exceptions name them changed last.
ALTER TABLE profiles ADD COLUMN changed_at INTEGER NOT NULL DEFAULT 0;
