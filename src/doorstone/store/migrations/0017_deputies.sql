-- Who acts in whose place, and which approvals and second looks were given so.
CREATE TABLE deputies (
  id INTEGER PRIMARY KEY,
  person TEXT NOT NULL REFERENCES people (name),
  deputy TEXT NOT NULL REFERENCES people (name),
  start_on TEXT NOT NULL,
  end_on TEXT NOT NULL,
  reason TEXT NOT NULL,
  by TEXT NOT NULL,
  at TEXT NOT NULL,
  ended_at TEXT
) STRICT;
CREATE INDEX deputies_deputy ON deputies (deputy);
CREATE TABLE exception_deputies (
  exception INTEGER NOT NULL REFERENCES exceptions (id),
  deed TEXT NOT NULL,
  person TEXT NOT NULL,
  in_place_of TEXT NOT NULL,
  at TEXT NOT NULL,
  PRIMARY KEY (exception, deed, person)
) STRICT;
