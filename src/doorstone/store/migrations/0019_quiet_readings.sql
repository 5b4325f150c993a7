-- Past readings that moved no answer, as what differs from another content of the same facts.
CREATE TABLE reading_devices (
  number INTEGER PRIMARY KEY,
  device TEXT NOT NULL UNIQUE REFERENCES devices (id)
) STRICT;
CREATE TABLE reading_sources (
  number INTEGER PRIMARY KEY,
  source TEXT NOT NULL UNIQUE
) STRICT;
-- day: days since 2000-01-01; second: of that day. In the order of days, so that a new day is added at the end.
CREATE TABLE quiet_readings (
  day INTEGER NOT NULL,
  device INTEGER NOT NULL,
  source INTEGER NOT NULL,
  second INTEGER NOT NULL,
  base INTEGER NOT NULL,
  changes BLOB NOT NULL,
  PRIMARY KEY (day, device, source, second)
) STRICT, WITHOUT ROWID;
