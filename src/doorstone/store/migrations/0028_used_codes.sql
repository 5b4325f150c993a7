-- The last half minute of which a person's code of a second factor was used: each code counts once.
CREATE TABLE used_codes (
  person TEXT PRIMARY KEY REFERENCES people (name),
  step INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
