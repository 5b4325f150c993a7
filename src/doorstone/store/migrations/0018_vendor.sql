-- What names of a vendor's lists were said to be, and what a changed sheet leaves to do.
CREATE TABLE list_names (
  platform TEXT NOT NULL,
  list TEXT NOT NULL,
  raw TEXT NOT NULL,
  name TEXT NOT NULL,
  by TEXT NOT NULL,
  at TEXT NOT NULL,
  PRIMARY KEY (platform, list, raw)
) STRICT;
CREATE TABLE sheet_tasks (
  id INTEGER PRIMARY KEY,
  platform TEXT NOT NULL,
  revision INTEGER NOT NULL,
  kind TEXT NOT NULL,
  object_kind TEXT NOT NULL,
  object TEXT NOT NULL,
  devices TEXT NOT NULL,
  words TEXT NOT NULL,
  owner TEXT NOT NULL,
  state TEXT NOT NULL,
  note TEXT NOT NULL,
  by TEXT NOT NULL,
  at TEXT NOT NULL,
  made_at TEXT NOT NULL
) STRICT;
CREATE INDEX sheet_tasks_state ON sheet_tasks (state);
