-- Values of facts are kept once; contents of readings are numbers of values. Devices are placed anew, in classes by
-- answers: a day that is still to come makes the next round do it.
CREATE TABLE fact_names (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE) STRICT;
CREATE TABLE fact_values (
    id INTEGER PRIMARY KEY,
    fact INTEGER NOT NULL REFERENCES fact_names (id),
    value TEXT NOT NULL,
    UNIQUE (fact, value)
) STRICT;
CREATE TABLE content_shapes (id INTEGER PRIMARY KEY, facts TEXT NOT NULL UNIQUE) STRICT;
CREATE TABLE new_contents (
    id INTEGER PRIMARY KEY,
    digest INTEGER NOT NULL,
    shape INTEGER NOT NULL REFERENCES content_shapes (id),
    codes BLOB NOT NULL,
    more TEXT NOT NULL DEFAULT ''
) STRICT;
ALTER TABLE change_counters ADD COLUMN readings INTEGER NOT NULL DEFAULT 0;
UPDATE change_counters SET day = '9999-12-31' WHERE day <> '';
